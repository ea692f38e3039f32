package render

import (
	"time"

	"trevak/internal/write"
)

// countsJSON is what became of records.
type countsJSON struct {
	Read        int64 `json:"records_read"`
	Kept        int64 `json:"records_kept"`
	Filtered    int64 `json:"records_filtered"`
	Quarantined int64 `json:"records_quarantined"`
	Skipped     int64 `json:"records_skipped"`
	Filled      int64 `json:"records_filled"`
	Written     int64 `json:"rows_written"`
}

func countsOf(c write.Counts) countsJSON {
	return countsJSON{c.RecordsRead, c.RecordsKept, c.RecordsFiltered, c.RecordsQuarantined, c.RecordsSkipped, c.RecordsFilled,
		c.RowsWritten}
}

type readObjectJSON struct {
	objectJSON
	Hash null[string] `json:"hash"`
	countsJSON
}

type renamedJSON struct {
	SourceName string `json:"source_name"`
	Column     string `json:"column"`
}

type tokensJSON struct {
	Column string `json:"column"`
	Values int64  `json:"values"`
}

type alignedJSON struct {
	Column     string       `json:"column"`
	Type       string       `json:"type"`
	Object     null[string] `json:"object"`
	SourceName null[string] `json:"source_name"`
	SourceType null[string] `json:"source_type"`
	Action     string       `json:"action"`
}

type alikeJSON struct {
	Object string `json:"object"`
	Other  string `json:"other"`
}

type aboveJSON struct {
	Object string `json:"object"`
	Lines  int    `json:"lines"`
	Text   string `json:"text"`
}

// mergedJSON is what became of the rows in a mode that changes those of the table.
type mergedJSON struct {
	Mode        string       `json:"mode"`
	Inserted    int64        `json:"rows_inserted"`
	Updated     int64        `json:"rows_updated"`
	Unchanged   int64        `json:"rows_unchanged"`
	Deleted     int64        `json:"rows_deleted"`
	Unmet       int64        `json:"deletes_unmet"`
	Known       int64        `json:"rows_known"`
	Older       int64        `json:"rows_older"`
	Superseded  int64        `json:"rows_superseded"`
	Repeated    int64        `json:"keys_repeated"`
	Gone        int64        `json:"table_rows_gone"`
	As          null[string] `json:"upsert_as"`
	Why         null[string] `json:"upsert_why"`
	Copied      int64        `json:"rewrite_bytes"`
	Dropped     int          `json:"files_dropped"`
	Rewritten   int          `json:"files_rewritten"`
	DeleteFiles int          `json:"delete_files"`
}

func mergedOf(m *write.Merged) *mergedJSON {
	if m == nil {
		return nil
	}
	return &mergedJSON{m.Mode, m.Inserted, m.Updated, m.Unchanged, m.Deleted, m.Unmet, m.Known, m.Older, m.Superseded,
		m.Repeated, m.Outcome.Rows, orNull(m.As), orNull(string(m.Why)), m.Copied, m.Dropped, m.Rewritten, m.DeleteFiles}
}

// reportJSON is the account of a convert or a load.
type reportJSON struct {
	Objects []readObjectJSON `json:"objects"`
	countsJSON
	BytesRead     int64         `json:"bytes_read"`
	BytesUnpacked int64         `json:"bytes_unpacked"`
	BytesWritten  int64         `json:"bytes_written"`
	DataFiles     int           `json:"data_files"`
	Partitions    int           `json:"partitions"`
	Seconds       float64       `json:"seconds"`
	Destination   null[string]  `json:"destination"`
	Table         null[string]  `json:"table"`
	Branch        null[string]  `json:"branch"`
	SnapshotID    null[string]  `json:"snapshot_id"`
	Verified      int64         `json:"rows_verified"`
	Created       bool          `json:"created"`
	NotMade       bool          `json:"not_made"`
	Completed     bool          `json:"completed"`
	DryRun        bool          `json:"dry_run"`
	Codec         string        `json:"codec"`
	Rewritten     bool          `json:"rewritten"`
	ObjectsKnown  int           `json:"objects_known"`
	ObjectsNew    int           `json:"objects_new"`
	ObjectsOther  int           `json:"objects_changed"`
	NothingNew    bool          `json:"nothing_new"`
	Merged        *mergedJSON   `json:"merged"`
	Left          []string      `json:"columns_left"`
	Alike         []alikeJSON   `json:"alike"`
	Checks        []checkJSON   `json:"checks"`
	Drift         []driftJSON   `json:"drift"`
	Alignment     []alignedJSON `json:"alignment"`
	Renamed       []renamedJSON `json:"renamed"`
	NullTokens    []tokensJSON  `json:"null_tokens"`
	NoType        []string      `json:"columns_without_type"`
	Reasons       []reasonJSON  `json:"reasons"`
	Quarantine    null[string]  `json:"quarantine"`
	Unsure        []doubtJSON   `json:"unsure"`
	LinesAbove    []aboveJSON   `json:"lines_above"`
	EmptyObjects  int           `json:"empty_objects"`
	HiddenObjects int           `json:"hidden_objects"`
	PassedOver    []passedJSON  `json:"passed_over"`
	Split         []reportJSON  `json:"split"`
}

// ReportJSON writes a report for programs.
func ReportJSON(s Screen, r *write.Report) error { return JSON(s, reportOf(r)) }

func reportOf(r *write.Report) reportJSON {
	out := reportJSON{Objects: []readObjectJSON{}, countsJSON: countsOf(r.Counts), BytesRead: r.BytesRead, BytesUnpacked: r.BytesUnpacked,
		BytesWritten: r.BytesWritten, DataFiles: r.DataFiles, Partitions: r.Partitions, Seconds: r.Seconds,
		Destination: orNull(r.Destination), Table: orNull(r.Table), Branch: orNull(r.Branch), SnapshotID: idText(r.SnapshotID),
		Verified: r.Verified, Created: r.Created,
		NotMade: r.NotMade, Completed: r.Completed, DryRun: r.DryRun, Codec: r.Codec, Rewritten: r.Rewritten,
		ObjectsKnown: r.Known.Known, ObjectsNew: r.Known.New, ObjectsOther: r.Known.Changed, NothingNew: r.NothingNew,
		Merged: mergedOf(r.Merged),
		Left:   orEmpty(r.Left),
		Checks: checksOf(r.Checks),
		Alike:  []alikeJSON{}, Drift: driftsJSON(r.Drift),
		Alignment: []alignedJSON{}, Renamed: []renamedJSON{}, NullTokens: []tokensJSON{}, NoType: orEmpty(r.NoType),
		Reasons: reasonsJSON(r.Reasons), Quarantine: orNull(r.Quarantine), Unsure: unsure(r.Unsure), LinesAbove: []aboveJSON{},
		EmptyObjects: r.EmptyFiles, HiddenObjects: r.HiddenFiles, PassedOver: passedOver(r.PassedOver), Split: []reportJSON{}}
	for _, o := range r.Objects {
		var at time.Time
		if o.Modified != nil {
			at = *o.Modified
		}
		out.Objects = append(out.Objects, readObjectJSON{objectJSON{o.Location, o.Bytes, instantOf(at)}, orNull(o.Hash), countsOf(o.Counts)})
	}
	for _, a := range r.Alignment {
		out.Alignment = append(out.Alignment, alignedJSON{a.Column, a.Type, orNull(a.Location), orNull(a.From), orNull(a.FromType), a.Action})
	}
	for _, a := range r.Alike {
		out.Alike = append(out.Alike, alikeJSON{a.Location, a.Other})
	}
	for _, n := range r.Renamed {
		out.Renamed = append(out.Renamed, renamedJSON{n.From, n.To})
	}
	for _, n := range r.NullTokens {
		out.NullTokens = append(out.NullTokens, tokensJSON(n))
	}
	for _, a := range r.LinesAbove {
		out.LinesAbove = append(out.LinesAbove, aboveJSON{a.Location, a.Lines, a.First})
	}
	for _, part := range r.Split {
		out.Split = append(out.Split, reportOf(part))
	}
	return out
}
