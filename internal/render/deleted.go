package render

import (
	"fmt"
	"strconv"

	"trevak/internal/amend"
)

// ID writes the id of a snapshot.
func ID(id int64) string { return strconv.FormatInt(id, 10) }

// partitionsShown bounds how many partitions have a line of their own.
const partitionsShown = 40

// Deleted tells what was deleted of a table, or would be.
func Deleted(s Screen, d *amend.Deleted) {
	title := d.Table
	switch {
	case d.Rows == 0:
		title += ": no row is such, and nothing was changed"
	case d.DryRun:
		title += ": nothing was changed; a deletion would do this"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	facts := []fact{{name: "where", value: d.Where}}
	if d.Rows > 0 {
		rows := Number(d.Rows)
		if d.RowsBefore > 0 {
			rows += " of " + Number(d.RowsBefore)
		}
		facts = append(facts, fact{name: "rows", value: rows},
			fact{name: "files", value: outcomeText(d.Outcome)})
	}
	if d.BytesWritten > 0 {
		facts = append(facts, fact{name: "written", value: Size(d.BytesWritten)})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", d.Seconds)})
	if d.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(d.SnapshotID)})
	}
	s.facts(facts)
	if len(d.Partitions) == 0 {
		return
	}
	s.Printf("\n")
	t := Table{Header: []string{"partition", "rows", "files"}, Right: []bool{false, true, true}, Indent: 2}
	for i, p := range d.Partitions {
		if i == partitionsShown {
			var rest amend.PartitionRows
			for _, p := range d.Partitions[i:] {
				rest.Rows += p.Rows
				rest.Files += p.Files
			}
			t.Rows = append(t.Rows, []string{fmt.Sprintf("… %s", Count(len(d.Partitions)-i, "more partition", "more partitions")),
				Number(rest.Rows), Number(int64(rest.Files))})
			break
		}
		t.Rows = append(t.Rows, []string{p.Partition, Number(p.Rows), Number(int64(p.Files))})
	}
	t.Write(s)
}

type partitionRowsJSON struct {
	Partition string `json:"partition"`
	Rows      int64  `json:"rows_deleted"`
	Files     int    `json:"files"`
}

// DeletedJSON tells programs what was deleted of a table, or would be.
func DeletedJSON(s Screen, d *amend.Deleted) error {
	out := struct {
		Table       string              `json:"table"`
		Where       string              `json:"where"`
		DryRun      bool                `json:"dry_run"`
		Rows        int64               `json:"rows_deleted"`
		Before      null[int64]         `json:"rows_before"`
		As          null[string]        `json:"delete_as"`
		Why         null[string]        `json:"delete_why"`
		Copied      int64               `json:"rewrite_bytes"`
		Dropped     int                 `json:"files_dropped"`
		Rewritten   int                 `json:"files_rewritten"`
		DeleteFiles int                 `json:"delete_files"`
		Written     int64               `json:"bytes_written"`
		Seconds     float64             `json:"seconds"`
		SnapshotID  null[string]        `json:"snapshot_id"`
		Partitions  []partitionRowsJSON `json:"partitions_touched"`
	}{d.Table, d.Where, d.DryRun, d.Rows, orNull(d.RowsBefore), orNull(d.As), orNull(string(d.Why)), d.Copied, d.Dropped, d.Rewritten,
		d.DeleteFiles, d.BytesWritten, d.Seconds, idText(d.SnapshotID), []partitionRowsJSON{}}
	for _, p := range d.Partitions {
		out.Partitions = append(out.Partitions, partitionRowsJSON(p))
	}
	return JSON(s, out)
}
