package write

import (
	"context"
	"slices"
	"time"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/locate"
	"trevak/internal/profile"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
)

// Report is the account of a convert or a load: what was read, what was written, and that the two agree.
type Report struct {
	Objects []ObjectReport
	Counts
	// BytesRead counts the bytes of the source as stored, BytesUnpacked those of its text, BytesWritten those of the data files.
	BytesRead     int64
	BytesUnpacked int64
	BytesWritten  int64
	DataFiles     int
	Partitions    int
	Seconds       float64
	// Destination is the file or folder of a convert.
	Destination string
	// Table, SnapshotID and Created are those of a load.
	Table  string
	Branch string // of the table, empty for main
	// Verified is how many rows were read back before the commit, those that were written anew included; 0 where none were.
	Verified   int64
	SnapshotID int64
	Created    bool
	// Merged is what became of the rows in a mode that changes those of the table, nil in others. Left are the columns that updated rows
	// keep as they were, since no object has them.
	Merged *Merged
	Left   []string
	// Known counts the objects of the source by what the table's ledger knew of them. NothingNew says that all were known, so that
	// nothing was read. Alike are objects whose content was taken in before, under another name.
	Known      Known
	NothingNew bool
	Alike      []Alike
	// Drift lists what differed between source and table, and the values that did not fit their columns.
	Drift []schema.Difference
	// NullTokens are the columns in which words stood for no value.
	NullTokens []NullTokens
	// DryRun says that nothing was written; Alignment then tells for each column where it comes from.
	DryRun    bool
	Alignment []Aligned
	// Renamed are the columns whose names had to be made legal.
	Renamed []Renamed
	Codec   string
	// Formed says that rows were given another form than records have.
	Formed bool
	// Rewritten is set when a value beyond the sampled types made the run infer from all records and write anew.
	Rewritten bool
	// Reasons groups the quarantined records, and Quarantine is the file that holds them.
	Reasons    []ReasonGroup
	Quarantine string
	// Split are the accounts of the tables that lists went to.
	Split []*Report
	// Completed says that the rows of the table were there already, of a load that could not be finished.
	Completed bool
	// NoType are the columns without a single value, whose type the first ones will settle. NotMade says that there was no
	// record either, so that the table is not made yet.
	NoType  []string
	NotMade bool
	// Unsure are reading rules that could be others, and LinesAbove what stands above tables and is no part of them.
	Unsure     []source.Doubt
	LinesAbove []source.Above
	// EmptyFiles and HiddenFiles were passed over, and so was what PassedOver lists.
	EmptyFiles  int
	HiddenFiles int
	PassedOver  []locate.Passed

	// Profile is how the values of each leaf column are distributed, where that was asked for.
	Profile []profile.Column

	// Spread is how the values of the columns that are not nested are spread, where that was asked for.
	Spread []Spread

	// Checks are what the rules came to that were held against the rows.
	Checks []check.Result

	// Elements are how many elements the lists have that were split off.
	Elements []int64
}

// addElements counts the elements of lists that were split off.
func (r *Report) addElements(more []int64) {
	if r.Elements == nil {
		r.Elements = make([]int64, len(more))
	}
	for i, n := range more {
		r.Elements[i] += n
	}
}

// Wrote reports whether rows were written, or are to be.
func (r *Report) Wrote() bool {
	return r != nil && slices.ContainsFunc(r.Objects, func(o ObjectReport) bool { return o.RowsWritten > 0 })
}

// Discard removes the quarantine file of a run that begins anew.
func (r *Report) Discard(ctx context.Context, s storage.Store) {
	if r.Quarantine != "" {
		// What cannot be removed is named after a run that is told to have failed.
		_ = s.Remove(context.WithoutCancel(ctx), r.Quarantine)
	}
}

// Counts are the records of an object or of all.
type Counts struct {
	RecordsRead int64
	// RecordsKept became rows: one each, or as many as their lists have elements. RecordsFiltered are those that a condition kept out.
	RecordsKept        int64
	RecordsFiltered    int64
	RowsWritten        int64
	RecordsQuarantined int64
	RecordsSkipped     int64
	// RecordsFilled are those among the others that lacked fields at their end, which are null.
	RecordsFilled int64
}

// ObjectReport is the account of one object.
type ObjectReport struct {
	Location string
	// Bytes, Modified and Hash mark the version of the object that was read; a convert whose account is for people alone has no hashes.
	Bytes    int64
	Modified *time.Time
	Hash     string
	// RecordsBefore is how many records former loads have read of the object, where this one went on behind them.
	RecordsBefore int64
	Counts
}

// Known counts objects by what a ledger knows of them.
type Known struct {
	// Known were taken in before, as they are; New were not; Changed were, when they were others.
	Known, New, Changed int
}

// Alike is an object whose content was taken in under another name.
type Alike struct{ Location, Other string }

// Renamed is a column whose name had to be made legal.
type Renamed struct {
	From string
	To   string
}

// Add puts one object's counts to another's.
func (c *Counts) Add(o Counts) {
	c.RecordsRead += o.RecordsRead
	c.RecordsKept += o.RecordsKept
	c.RecordsFiltered += o.RecordsFiltered
	c.RowsWritten += o.RowsWritten
	c.RecordsQuarantined += o.RecordsQuarantined
	c.RecordsSkipped += o.RecordsSkipped
	c.RecordsFilled += o.RecordsFilled
}

// balanced reports whether every record is accounted for.
func (c Counts) balanced() bool {
	return c.RecordsRead == c.RecordsKept+c.RecordsFiltered+c.RecordsQuarantined+c.RecordsSkipped
}

// newReport begins the account of a run over a source.
func newReport(d *infer.Data, s schema.Schema, codec string) *Report {
	r := &Report{Drift: []schema.Difference{}, NullTokens: []NullTokens{}, Renamed: []Renamed{}, Reasons: []ReasonGroup{}, Codec: codec,
		Formed: d.Shaped(), NoType: []string{}, PassedOver: append([]locate.Passed{}, d.Passed...), Unsure: d.Doubts(),
		LinesAbove: d.LinesAbove(), EmptyFiles: d.Empty, HiddenFiles: d.Hidden, BytesRead: d.Bytes}
	for _, in := range d.Inputs {
		o := ObjectReport{Location: in.Location, Bytes: in.Size}
		if !in.Modified.IsZero() {
			at := in.Modified.UTC()
			o.Modified = &at
		}
		r.Objects = append(r.Objects, o)
	}
	r.NoType = append(r.NoType, s.Untyped()...)
	s.Walk(func(path string, f *schema.Field) {
		if f.Origin != "" && !f.Held {
			r.Renamed = append(r.Renamed, Renamed{From: f.Origin, To: path})
		}
	})
	return r
}

// close adds up the objects and holds them against what lies in the files. It is the last check before a commit.
func (r *Report) close(stored Stored, started time.Time) error {
	for _, o := range r.Objects {
		if !o.balanced() {
			return unbalanced(o.Location, o.Counts)
		}
		r.Add(o.Counts)
	}
	if stored.Rows != r.RowsWritten {
		return fault.New(fault.Storage, "%d rows were to be written, but %d are there", r.RowsWritten, stored.Rows).
			Try("this is a fault of the program; nothing was committed")
	}
	r.BytesWritten, r.DataFiles, r.Partitions = stored.Bytes, len(stored.Files), stored.Partitions
	r.Seconds = time.Since(started).Seconds()
	return nil
}

func unbalanced(location string, c Counts) error {
	return fault.New(fault.Storage, "%d records were read, but %d kept, %d filtered, %d quarantined and %d skipped", c.RecordsRead,
		c.RecordsKept, c.RecordsFiltered,
		c.RecordsQuarantined, c.RecordsSkipped).In(location).Try("this is a fault of the program; nothing was committed")
}
