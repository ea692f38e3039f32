package table

import (
	"encoding/json"
	"maps"
	"strconv"
	"time"

	icetable "github.com/apache/iceberg-go/table"
)

// Entries of a snapshot's summary that tell what its commit did to the rows of the table, which counts of files do not: how many it
// brought and took away, and how many there are then.
const (
	gainKey = "trevak.rows-added"
	lossKey = "trevak.rows-removed"
	rowsKey = "trevak.rows"
	// sourceKey, objectsKey and secondsKey are the entries of what was Told.
	sourceKey  = "trevak.source"
	objectsKey = "trevak.objects"
	secondsKey = "trevak.seconds"
	// mergeKey is the entry that has the key by which rows were held against the table's, as JSON.
	mergeKey = "trevak.key"
)

// Told is what the history of a table tells of a commit besides what it did.
type Told struct {
	// Source is what the user named, Objects how many came of it.
	Source  string
	Objects int
	// Began is when the run began, zero for what is not worth telling.
	Began time.Time
	// Copied is the table and its state that a copy is of, empty for what is none.
	Copied string
	// Key is that by which rows were held against the table's; none where they were not.
	Key []string
}

// CopiedKey is the entry of a snapshot's summary that says what a copy is of.
const CopiedKey = "trevak.copied-from"

// summary writes what was told into the summary of a snapshot.
func (t Told) summary(into map[string]string) {
	if t.Source != "" {
		into[sourceKey], into[objectsKey] = t.Source, strconv.Itoa(t.Objects)
	}
	if t.Copied != "" {
		into[CopiedKey] = t.Copied
	}
	if len(t.Key) > 0 {
		// Texts can always be encoded.
		text, _ := json.Marshal(t.Key)
		into[mergeKey] = string(text)
	}
	if !t.Began.IsZero() {
		into[secondsKey] = strconv.FormatFloat(time.Since(t.Began).Seconds(), 'f', 3, 64)
	}
}

// rowCounts are the entries that tell what a change does to the rows of a table.
func (c Change) rowCounts(now *Table) map[string]string {
	var gain, loss int64
	switch {
	case c.Loss != nil && *c.Loss < 0:
		return nil
	case c.Gain != nil:
		gain, loss = *c.Gain, *c.Loss
	case len(c.Deletes)+len(c.Remove) > 0:
		// What the files tell is not what became of rows.
		return nil
	default:
		for _, f := range c.Add {
			gain += f.Summary.Rows
		}
	}
	out := map[string]string{gainKey: strconv.FormatInt(gain, 10), lossKey: strconv.FormatInt(loss, 10)}
	if before := rowsOf(now.state); before >= 0 {
		out[rowsKey] = strconv.FormatInt(before+gain-loss, 10)
	}
	return out
}

// manifestSummary is what a change that brings manifests together has to tell, nil for others.
func (c Change) manifestSummary(now *Table, id string) map[string]string {
	if !c.Manifests {
		return nil
	}
	out := map[string]string{commitIDKey: id, operationKey: ManifestsOperation, gainKey: "0", lossKey: "0",
		layoutKey: layoutIDs(now.table.Metadata())}
	if rows := rowsOf(now.state); rows >= 0 {
		out[rowsKey] = strconv.FormatInt(rows, 10)
	}
	maps.Copy(out, c.Summary)
	return out
}

// rowsOf is how many rows a table has in a state, -1 where files of deletes leave that open.
func rowsOf(s *icetable.Snapshot) int64 {
	if s == nil {
		return 0
	}
	if s.Summary == nil {
		return -1
	}
	count := func(key string) int64 {
		n, err := strconv.ParseInt(s.Summary.Properties[key], 10, 64)
		if err != nil {
			return -1
		}
		return n
	}
	if n := count(rowsKey); n >= 0 {
		return n
	}
	if count("total-delete-files") != 0 {
		return -1
	}
	return count("total-records")
}

// Rows is how many rows the table has in its state; known is false where files of deletes of others leave that open.
func (t *Table) Rows() (n int64, known bool) {
	n = rowsOf(t.state)
	return max(n, 0), n >= 0
}
