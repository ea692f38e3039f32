package render

import (
	"time"

	"trevak/internal/inspect"
)

// Ledger writes a line for each object that a table has taken in.
func Ledger(s Screen, table string, list []inspect.TakenIn) {
	if len(list) == 0 {
		s.Printf("%s has taken in no such object\n", table)
		return
	}
	t := Table{Header: []string{"object", "bytes", "read", "rows", "quarantined", "filtered", "loaded at", "snapshot"},
		Right: []bool{false, true, true, true, true, true, false, true}, Ends: []bool{true}, Keep: true}
	for _, e := range list {
		snapshot := idText(e.SnapshotID).V
		t.Rows = append(t.Rows, []string{e.URI, Number(e.Size), Number(e.Records), Number(e.Rows), Number(e.Quarantined), Number(e.Filtered),
			minute(&e.At), orDash(snapshot)})
	}
	t.Write(s)
	s.Printf("\n%s\n", Count(len(list), "object", "objects"))
}

type takenInJSON struct {
	objectJSON
	Hash        null[string] `json:"hash"`
	Read        int64        `json:"records_read"`
	Quarantined int64        `json:"records_quarantined"`
	Filtered    int64        `json:"records_filtered"`
	Written     int64        `json:"rows_written"`
	LoadedAt    *time.Time   `json:"loaded_at"`
	SnapshotID  null[string] `json:"snapshot_id"`
}

// LedgerJSON writes for programs which objects a table has taken in.
func LedgerJSON(s Screen, table string, list []inspect.TakenIn) error {
	out := struct {
		Table   string        `json:"table"`
		Objects []takenInJSON `json:"objects"`
	}{table, []takenInJSON{}}
	for _, e := range list {
		out.Objects = append(out.Objects, takenInJSON{objectJSON{e.URI, e.Size, instantOf(e.Modified)}, orNull(e.Hash), e.Records,
			e.Quarantined, e.Filtered, e.Rows, instantOf(e.At), idText(e.SnapshotID)})
	}
	return JSON(s, out)
}
