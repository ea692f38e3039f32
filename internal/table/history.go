package table

import (
	"encoding/json"
	"slices"
	"strconv"
	"time"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/schema"
)

// Commit is a line in the history of a table: what a commit did, or what became of the table without one.
type Commit struct {
	// Snapshot is the state that the commit left; of a change without a state of its own it has the time and the operation alone.
	Snapshot
	// Ours says that this program made the commit.
	Ours bool
	// Source is what the commit came of, of Objects; empty where it does not tell.
	Source  string
	Objects int
	// DeleteFiles is how many files of deletes came with it.
	DeleteFiles int64
	// Duration of the run that ended in the commit, 0 where it does not tell.
	Duration time.Duration
	// Changes are what it did to the schema, a sentence each.
	Changes []string
	// Standing says what the state is to the table now, and Names are its tags and the branches whose newest state it is.
	Standing Standing
	Names    []string
	// Of is the state that became the table's again, of a rollback or of what was published; 0 for a commit.
	Of int64

	load string // the id of the commit
}

// Standing is what a state is to the table now.
type Standing string

// The newest state; one that came before it; one of a branch; one that was undone; a change that left no state of its own.
const (
	IsCurrent Standing = "current"
	IsPast    Standing = "past"
	OnABranch Standing = "branch"
	Undone    Standing = "undone"
	NoState   Standing = ""
)

// MergedBy is the key by which the last load held its rows against those of the table that did so, as far as the states tell that have
// not expired; nil where none did.
func (t *Table) MergedBy() (key []string) {
	ancestors(t.table.Metadata(), t.state, func(s icetable.Snapshot) bool {
		if s.Summary != nil && s.Summary.Properties[mergeKey] != "" {
			// What cannot be read is told by nothing.
			_ = json.Unmarshal([]byte(s.Summary.Properties[mergeKey]), &key)
		}
		return len(key) == 0
	})
	return key
}

// Operations of lines without a commit of files.
const (
	RolledBackOperation = "rollback"
	PublishedOperation  = "publish"
	AlteredOperation    = "alter"
	ManifestsOperation  = "manifests"
)

// History lists how a table came to be what it is, the newest first, as far as its states have not expired. It takes no look at files.
func (t *Table) History() ([]Commit, error) {
	metadata := t.table.Metadata()
	past, branches := t.reached()
	names := map[int64][]string{}
	for _, r := range t.Refs() {
		if r.Name != Main {
			names[r.ID] = append(names[r.ID], r.Name)
		}
	}
	schemas, err := t.schemaChanges()
	if err != nil {
		return nil, err
	}
	var out []Commit
	byLoad := map[string]int{}
	for _, s := range metadata.Snapshots() {
		c := describeCommit(s)
		c.Names = names[s.SnapshotID]
		switch {
		case t.state != nil && s.SnapshotID == t.state.SnapshotID:
			c.Standing = IsCurrent
		case past[s.SnapshotID]:
			c.Standing = IsPast
		case branches[s.SnapshotID]:
			c.Standing = OnABranch
		default:
			c.Standing = Undone
		}
		c.Changes = schemas.of(metadata, s)
		if at, ok := byLoad[c.load]; ok {
			// One commit that took two states to make.
			out[at] = together(out[at], c)
			continue
		}
		if c.load != "" {
			byLoad[c.load] = len(out)
		}
		out = append(out, c)
	}
	out = append(out, t.moves(metadata)...)
	altered, err := t.alterations()
	if err != nil {
		return nil, err
	}
	out = append(out, altered...)
	slices.SortStableFunc(out, func(a, b Commit) int { return a.Committed.Compare(b.Committed) })
	slices.Reverse(out)
	return out, nil
}

func loadOf(s icetable.Snapshot) string {
	if s.Summary == nil {
		return ""
	}
	return s.Summary.Properties[commitIDKey]
}

// describeCommit reads what a snapshot tells of its commit.
func describeCommit(s icetable.Snapshot) Commit {
	c := Commit{Snapshot: describeSnapshot(s), Ours: loadOf(s) != "", load: loadOf(s)}
	if s.Summary == nil {
		return c
	}
	p := s.Summary.Properties
	c.Source = p[sourceKey]
	c.Objects, _ = strconv.Atoi(p[objectsKey])
	c.DeleteFiles, _ = strconv.ParseInt(p["added-delete-files"], 10, 64)
	if seconds, err := strconv.ParseFloat(p[secondsKey], 64); err == nil {
		c.Duration = time.Duration(seconds * float64(time.Second))
	}
	return c
}

// together makes one line of the two states of a commit.
func together(first, last Commit) Commit {
	last.RemovedFiles += first.RemovedFiles
	last.AddedFiles += first.AddedFiles
	last.DeleteFiles += first.DeleteFiles
	last.Changes = slices.Compact(append(first.Changes, last.Changes...))
	return last
}

// reached are the states that the table, and those that its branches and tags, came of.
func (t *Table) reached() (past, others map[int64]bool) {
	past, others = map[int64]bool{}, map[int64]bool{}
	metadata := t.table.Metadata()
	mark := func(in map[int64]bool, s *icetable.Snapshot) {
		ancestors(metadata, s, func(s icetable.Snapshot) bool {
			again := in[s.SnapshotID]
			in[s.SnapshotID] = true
			return !again
		})
	}
	mark(past, metadata.CurrentSnapshot())
	for _, r := range t.Refs() {
		mark(others, metadata.SnapshotByID(r.ID))
	}
	return past, others
}

// schemaChanges tells what commits did to the schema.
type schemaChanges struct {
	byID map[int]schema.Schema
	log  map[int][]string
	// altered are versions that came about without a commit, which have a line of their own.
	altered map[int]bool
}

func (t *Table) schemaChanges() (schemaChanges, error) {
	out := schemaChanges{map[int]schema.Schema{}, map[int][]string{}, map[int]bool{}}
	versions, err := t.Versions()
	for _, v := range versions {
		out.byID[v.ID], out.log[v.ID] = v.Schema, v.Changes
		out.altered[v.ID] = v.Cause == alteredCause
	}
	return out, err
}

// of is what a commit changed: what its schema has that the one of the state before has not.
func (c schemaChanges) of(metadata icetable.Metadata, s icetable.Snapshot) []string {
	if s.SchemaID == nil || s.ParentSnapshotID == nil {
		return nil
	}
	before := metadata.SnapshotByID(*s.ParentSnapshotID)
	if before == nil || before.SchemaID == nil || *before.SchemaID == *s.SchemaID ||
		c.altered[*s.SchemaID] {
		return nil
	}
	if told := c.log[*s.SchemaID]; len(told) > 0 {
		return told
	}
	return schema.Compare(c.byID[*before.SchemaID], c.byID[*s.SchemaID])
}

// moves are the lines of states that became the table's without a commit: it went back to them, or they were published.
func (t *Table) moves(metadata icetable.Metadata) (out []Commit) {
	var last *icetable.Snapshot
	for e := range metadata.SnapshotLogs() {
		s := metadata.SnapshotByID(e.SnapshotID)
		if s == nil {
			continue
		}
		// The log has the time of a state that came with its commit.
		if last != nil && last.SnapshotID != s.SnapshotID && e.TimestampMs != s.TimestampMs {
			c := Commit{Of: s.SnapshotID, Ours: true}
			c.Committed, c.Operation = time.UnixMilli(e.TimestampMs).UTC(), RolledBackOperation
			if descends(metadata, s, last.SnapshotID) {
				c.Operation = PublishedOperation
			}
			out = append(out, c)
		}
		last = s
	}
	return out
}

// alterations are the lines of changes that the schema got without a commit of files.
func (t *Table) alterations() (out []Commit, err error) {
	log, err := logOf(t.table.Properties())
	for _, e := range log {
		if e.Cause == alteredCause {
			c := Commit{Ours: true, Changes: e.Changes}
			c.Committed, c.Operation = e.At, AlteredOperation
			out = append(out, c)
		}
	}
	return out, err
}

// alteredCause is what the log of a schema says of changes that were asked for.
const alteredCause = "altered"
