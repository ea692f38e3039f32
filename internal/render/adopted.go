package render

import (
	"fmt"

	"trevak/internal/load"
)

// Adopted tells which files became part of a table where they lie, or would.
func Adopted(s Screen, a *load.Adopted) {
	title := a.Table
	switch {
	case a.Files == 0:
		title += ": nothing new, every file is part of it already"
	case a.DryRun:
		title += ": nothing was changed; an adoption would do this"
	case a.Created:
		title += " (new table)"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	var facts []fact
	if k := a.Known; k.Known+k.Changed > 0 {
		facts = append(facts, fact{name: "objects", value: fmt.Sprintf("%s known, %s new", Number(int64(k.Known)), Number(int64(k.New)))})
	}
	if a.Files > 0 {
		facts = append(facts, fact{name: "adopted", value: fmt.Sprintf("%s with %s, %s", Count(a.Files, "file", "files"),
			Count(int(a.Rows), "row", "rows"), Size(a.Bytes))})
	}
	if a.PartitionBy != "" {
		facts = append(facts, fact{name: "partitions", value: fmt.Sprintf("%s, by %s", Number(int64(a.Partitions)), a.PartitionBy)})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", a.Seconds)})
	if a.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(a.SnapshotID)})
	}
	s.facts(facts)
	if len(a.Drift) > 0 {
		s.Printf("\n")
		Drift(s, a.Drift)
	}
}

// AdoptedJSON tells programs which files became part of a table where they lie.
func AdoptedJSON(s Screen, a *load.Adopted) error {
	return JSON(s, struct {
		Table         string       `json:"table"`
		Created       bool         `json:"created"`
		DryRun        bool         `json:"dry_run"`
		Files         int          `json:"files"`
		Rows          int64        `json:"rows"`
		Bytes         int64        `json:"size_bytes"`
		Partitions    int          `json:"partitions"`
		PartitionedBy null[string] `json:"partitioned_by"`
		ObjectsKnown  int          `json:"objects_known"`
		ObjectsNew    int          `json:"objects_new"`
		NothingNew    bool         `json:"nothing_new"`
		Drift         []driftJSON  `json:"drift"`
		Seconds       float64      `json:"seconds"`
		SnapshotID    null[string] `json:"snapshot_id"`
	}{a.Table, a.Created, a.DryRun, a.Files, a.Rows, a.Bytes, a.Partitions, orNull(a.PartitionBy), a.Known.Known, a.Known.New, a.Files == 0,
		driftsJSON(a.Drift), a.Seconds, idText(a.SnapshotID)})
}
