// Package scan reads rows with their places from anything that has rows: text, columnar files, tables, and rows in another
// form.
//
// What comes in is a source and a request, which says under which columns rows are wanted, and which of them; what goes out are
// rows in the order of the source, some at a time, with the places that they came from and with what became of the records that
// are none. Where an object is read alone and where side by side, what is passed over unread, and how the one sort of source is
// told from the other, is settled here and nowhere else.
package scan

import (
	"context"
	"errors"
	"io"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/expr"
	"trevak/internal/fit"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
)

// Source is anything that has rows.
type Source interface {
	// Declared returns the columns that the objects declare themselves, all of them together; ok is false where only looking at
	// the records tells.
	Declared() (fields []schema.Field, ok bool)
	// Named reports whether the names of columns are known before the first record, so that one which is not among them is in no record.
	Named() bool
	// Objects are those that rows come from, with the names that their columns have here.
	Objects() []source.Input
	// Bytes is the size of all objects as stored.
	Bytes() int64
	// Read hands over the rows that are asked for, in order. It ends early, without an error, when take returns io.EOF.
	Read(ctx context.Context, r Request, take func(*Rows) error) error
	// Plan divides the rows into splits that can be read independently of each other, of about so many stored bytes each.
	Plan(ctx context.Context, bytes int64) ([]Split, error)
	// Texts hands over the first n records, or rows, as texts, whatever a schema would make of them.
	Texts(ctx context.Context, n int, visit func(Record) error) error
}

// Target is what rows are fitted to.
type Target struct {
	// Schema is the columns; without any, rows come under those that the source declares.
	Schema schema.Schema
	// Fixed says that the schema is a table's; names in the source may then differ from its columns in letter case.
	Fixed bool
	// Unknown says what becomes of columns that the schema does not have, Style how names are made legal.
	Unknown fit.Unknown
	Style   schema.NameStyle
	// AssumedStarts are those of the sample that the schema came of.
	AssumedStarts map[int][]int64
}

// Request says which rows are wanted, and how.
type Request struct {
	Target Target
	// Columns tells where the target's columns are; nil has them found.
	Columns *Columns
	// Where keeps the rows that it holds for; it is of the target's columns. What it holds for none of is passed over unread
	// where that can be told.
	Where *expr.Expression
	// Bounds hold for every row that is wanted, besides what Where says; rows that they do not hold for may come all the same.
	// Positions are those of all rows that are wanted of a table's file, in order, nil for all; it goes with splits of one file.
	Bounds    []expr.Bound
	Positions []int64
	// Limit is how many rows are wanted, 0 for all.
	Limit int64
	// Splits are those of a plan that are read, in order; nil for all.
	Splits []Split
	// Sample reads parts of the source, nil all of it.
	Sample *Sample
	// Uncounted says that records for which the condition of a form does not hold may be passed over unread.
	Uncounted bool
	// Skipped counts what was passed over unread, where it is not nil.
	Skipped *columnar.Skipped
	// Hashes receives the hash of each object, where it is not nil; objects are read as a whole then.
	Hashes []string
	// Raw asks for the records as they were read, Coded allows columns of Arrow dictionaries, and Ranks asks for the number of
	// each row's record in every case.
	Raw, Coded, Ranks bool
	// Each is called once for each worker. What it returns is called with rows before they are put back in order.
	Each func() func(*Rows) error

	Budget run.Budget
	Stage  run.Stage

	// Spans asks for where in their block the records lie that rows are.
	Spans bool

	starts bool // of the records that rows are, in their block
	text   bool // of the blocks is kept
}

// columns finds the columns of the target.
func (r *Request) columns(s Source) *Columns {
	if r.Columns == nil {
		r.Columns = Find(s, r.Target)
	}
	return r.Columns
}

// each prepares what a worker does with rows: it keeps those that are wanted, and then does what is asked for.
func (r *Request) each(ctx context.Context) func(*Rows) error {
	then := func(*Rows) error { return nil }
	if r.Each != nil {
		then = r.Each()
	}
	if r.Where == nil {
		return then
	}
	return func(rows *Rows) error {
		kept, err := r.Where.Rows(rows.Batch.Columns(), int(rows.Batch.NumRows()))
		if err != nil {
			return err
		}
		rows.Filtered += rows.Batch.NumRows() - int64(len(kept))
		if err := rows.only(ctx, kept); err != nil {
			return err
		}
		return then(rows)
	}
}

// bounds are all that hold for every row that is wanted.
func (r *Request) bounds() []expr.Bound {
	if r.Where == nil {
		return r.Bounds
	}
	return append(slices.Clone(r.Bounds), r.Where.Bounds()...)
}

// coded reports whether columns may come as dictionaries; conditions are asked of values.
func (r *Request) coded() bool { return r.Coded && r.Where == nil }

// limited is take until there are enough rows.
func (r *Request) limited(ctx context.Context, take func(*Rows) error) func(*Rows) error {
	if r.Limit == 0 {
		return take
	}
	left := r.Limit
	return func(rows *Rows) error {
		if rows.Batch == nil || rows.Batch.NumRows() < left {
			if rows.Batch != nil {
				left -= rows.Batch.NumRows()
			}
			return take(rows)
		}
		first := make([]int32, left)
		for i := range first {
			first[i] = int32(i)
		}
		if err := rows.only(ctx, first); err != nil {
			return err
		}
		if err := take(rows); err != nil {
			return err
		}
		return io.EOF
	}
}

// ended takes io.EOF of those who want no more for no error.
func ended(err error) error {
	if errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

// Of returns the rows of a source as its objects have them.
func Of(s *source.Source) Source {
	if s.Format().Columnar() {
		return &files{s}
	}
	return &text{s}
}

// Record is a record, or a row, as texts.
type Record struct {
	// Names are those of its fields, which follow each other in Cells.
	Names []string
	Cells []Cell
	// Trouble is why it cannot be read; there are no fields then.
	Trouble error
}

// Cell is one field as text.
type Cell struct {
	Text         string
	Null, Absent bool
	// Plain says that the text is a number, a boolean, a list or an object, as JSON has them, and no text in the data.
	Plain bool
}

// eachRow makes records of the rows of a batch, whose columns have names.
func eachRow(batch arrow.RecordBatch, names []string, visit func(Record) error) error {
	for row := range int(batch.NumRows()) {
		cells := make([]Cell, batch.NumCols())
		for c := range cells {
			cells[c] = cellOf(batch.Column(c), row)
		}
		if err := visit(Record{Names: names, Cells: cells}); err != nil {
			return err
		}
	}
	return nil
}
