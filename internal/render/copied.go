package render

import (
	"fmt"

	"trevak/internal/transfer"
)

// Copied tells of a table that was copied, or would be.
func Copied(s Screen, c *transfer.Copied) {
	title := fmt.Sprintf("%s: copied to %s in %s, and verified", c.From, c.To, c.Warehouse)
	if c.DryRun {
		title = fmt.Sprintf("%s: nothing was copied; to %s in %s would go", c.From, c.To, c.Warehouse)
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	facts := []fact{{name: "rows", value: Number(c.Rows)},
		{name: "files", value: fmt.Sprintf("%s copied as they are, %s written anew, %s", Number(int64(c.Files)), Number(int64(c.Rewritten)),
			Size(c.Bytes))}}
	if !c.DryRun {
		facts = append(facts, fact{name: "ledger", value: Count(c.Objects, "object", "objects")})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", c.Seconds)})
	if c.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(c.SnapshotID)})
	}
	s.facts(facts)
}

// CopiedJSON tells programs of a table that was copied, or would be.
func CopiedJSON(s Screen, c *transfer.Copied) error {
	return JSON(s, struct {
		Table      string       `json:"table"`
		Copy       string       `json:"copy"`
		Warehouse  string       `json:"warehouse"`
		DryRun     bool         `json:"dry_run"`
		Rows       int64        `json:"rows"`
		Files      int          `json:"files_copied"`
		Rewritten  int          `json:"files_rewritten"`
		Bytes      int64        `json:"size_bytes"`
		Objects    int          `json:"object_count"`
		Seconds    float64      `json:"seconds"`
		SnapshotID null[string] `json:"snapshot_id"`
	}{c.From, c.To, c.Warehouse, c.DryRun, c.Rows, c.Files, c.Rewritten, c.Bytes, c.Objects, c.Seconds, idText(c.SnapshotID)})
}
