package render

import (
	"fmt"

	"trevak/internal/transfer"
)

// Copied tells of a table that was copied, or would be.
func Copied(s Screen, c *transfer.Copied) {
	s.Printf("%s\n\n", s.Bold(Wrap(copiedTitle(c), s.Width)))
	var facts []fact
	if !c.There {
		facts = append(facts, fact{name: "rows", value: Number(c.Rows)})
		if c.How != transfer.InPlace {
			kept := ""
			if c.Kept > 0 {
				kept = fmt.Sprintf(" (%s of them before)", Number(int64(c.Kept)))
			}
			facts = append(facts, fact{name: "files", value: fmt.Sprintf("%s copied as they are%s, %s written anew, %s", Number(int64(c.Files)),
				kept, Number(int64(c.Rewritten)), Size(c.Bytes))})
		}
		facts = append(facts, fact{name: "states", value: Number(int64(c.States))})
		if !c.DryRun && c.How == transfer.Present {
			facts = append(facts, fact{name: "ledger", value: Count(c.Objects, "object", "objects")})
		}
		facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", c.Seconds)})
	}
	if c.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(c.SnapshotID)})
	}
	switch {
	case c.Dropped && c.How == transfer.InPlace:
		facts = append(facts, fact{name: "dropped", value: c.From + ", whose files stay"})
	case c.Dropped:
		facts = append(facts, fact{name: "dropped", value: c.From + ", with its files"})
	case c.How == transfer.InPlace && !c.DryRun:
		facts = append(facts, fact{name: "note", value: c.From + " is only read here from now on"})
	}
	s.facts(facts)
}

func copiedTitle(c *transfer.Copied) string {
	place := fmt.Sprintf("%s in %s", c.To, c.Warehouse)
	switch {
	case c.There:
		return fmt.Sprintf("%s: copied before, to %s", c.From, place)
	case c.DryRun && c.How == transfer.InPlace:
		return fmt.Sprintf("%s: nothing was done; it would be known as %s", c.From, place)
	case c.DryRun:
		return fmt.Sprintf("%s: nothing was copied; to %s would go", c.From, place)
	case c.How == transfer.InPlace:
		return fmt.Sprintf("%s: known as %s", c.From, place)
	case c.How == transfer.History:
		return fmt.Sprintf("%s: copied with its history to %s, and verified", c.From, place)
	}
	return fmt.Sprintf("%s: copied to %s, and verified", c.From, place)
}

// copiedHow are the words for what was done.
var copiedHow = map[transfer.How]string{transfer.Present: "present", transfer.History: "history", transfer.InPlace: "in_place"}

type copiedJSON struct {
	Table      string       `json:"table"`
	Copy       string       `json:"copy"`
	Warehouse  string       `json:"warehouse"`
	How        string       `json:"how"`
	DryRun     bool         `json:"dry_run"`
	There      bool         `json:"copied_before"`
	Dropped    bool         `json:"dropped"`
	Rows       int64        `json:"rows"`
	Files      int          `json:"files_copied"`
	Kept       int          `json:"files_copied_before"`
	Rewritten  int          `json:"files_rewritten"`
	Bytes      int64        `json:"size_bytes"`
	States     int          `json:"state_count"`
	Objects    int          `json:"object_count"`
	Seconds    float64      `json:"seconds"`
	SnapshotID null[string] `json:"snapshot_id"`
}

func copiedOf(c *transfer.Copied) copiedJSON {
	return copiedJSON{c.From, c.To, c.Warehouse, copiedHow[c.How], c.DryRun, c.There, c.Dropped, c.Rows, c.Files, c.Kept, c.Rewritten,
		c.Bytes, c.States, c.Objects, c.Seconds, idText(c.SnapshotID)}
}

// CopiedJSON tells programs of a table that was copied, or would be.
func CopiedJSON(s Screen, c *transfer.Copied) error { return JSON(s, copiedOf(c)) }

// AllCopiedJSON tells programs of the tables of a namespace that were copied, or would be.
func AllCopiedJSON(s Screen, namespace string, list []*transfer.Copied) error {
	out := struct {
		Namespace string       `json:"namespace"`
		Tables    []copiedJSON `json:"tables"`
	}{namespace, []copiedJSON{}}
	for _, c := range list {
		out.Tables = append(out.Tables, copiedOf(c))
	}
	return JSON(s, out)
}

// Relocated tells of tables whose folders were moved.
func Relocated(s Screen, warehouse string, list []*transfer.Relocated) {
	if len(list) == 0 {
		s.Printf("There is no table in %s\n", warehouse)
		return
	}
	t := Table{Header: []string{"table", "lay in", "files", "states", "outcome"}, Right: []bool{false, false, true, true}}
	for _, r := range list {
		outcome := "relocated"
		switch {
		case r.There:
			t.Rows = append(t.Rows, []string{r.Table, r.From, "", "", "lies where it says"})
			continue
		case r.DryRun:
			outcome = "would be relocated"
		}
		t.Rows = append(t.Rows, []string{r.Table, r.From, Number(int64(r.Files)), Number(int64(r.States)), outcome})
	}
	t.Write(s)
}

// RelocatedJSON tells programs of tables whose folders were moved.
func RelocatedJSON(s Screen, warehouse string, list []*transfer.Relocated) error {
	type relocated struct {
		Table     string `json:"table"`
		From      string `json:"former_location"`
		To        string `json:"location"`
		There     bool   `json:"in_place"`
		DryRun    bool   `json:"dry_run"`
		Files     int    `json:"file_count"`
		Rewritten int    `json:"files_rewritten"`
		States    int    `json:"state_count"`
	}
	out := struct {
		Warehouse string      `json:"warehouse"`
		Tables    []relocated `json:"tables"`
	}{warehouse, []relocated{}}
	for _, r := range list {
		out.Tables = append(out.Tables, relocated{r.Table, r.From, r.To, r.There, r.DryRun, r.Files, r.Rewritten, r.States})
	}
	return JSON(s, out)
}
