package reconcile

import (
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/expr"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// scanned is the rows that are there: of a table, of which only those count that came of the objects of the source, or of files.
type scanned struct {
	from    scan.Source
	request prove.Request
	style   schema.NameStyle
	splits  []scan.Split
	// origins are the numbers of rows that came of the source, with the place of their object; nil for files, and where a table does not
	// tell. ofTable says that the origin stands behind the columns.
	origins map[int64]int
	ofTable bool
	// all has the rows come along that are of other objects.
	all    bool
	budget run.Budget
	// names are what the columns are called in the files, nil for what they are called in the request.
	names []string
	// within is the folder of the table, which places are told from.
	within string
}

// withForeign is the side with the rows of other objects, nil where there are none.
func (s *scanned) withForeign() prove.Side {
	if s.origins == nil {
		return nil
	}
	out := *s
	out.all = true
	return &out
}

// partsOfWorker is about how many parts each worker gets, so that they end at about the same time.
const partsOfWorker = 8

// Parts divides the side between its files and their row groups.
func (s *scanned) Parts(ctx context.Context, workers int) ([]prove.Side, error) {
	splits, err := s.from.Plan(ctx, s.from.Bytes()/int64(workers*partsOfWorker)+1)
	if err != nil {
		return nil, err
	}
	out := make([]prove.Side, len(splits))
	for i, split := range splits {
		part := *s
		part.splits = []scan.Split{split}
		out[i] = &whole{&part}
	}
	return out, nil
}

// whole is a part that is not divided again.
type whole struct{ of *scanned }

func (w *whole) Read(ctx context.Context, take func(prove.Rows) error) error {
	return w.of.Read(ctx, take)
}

func (s *scanned) Read(ctx context.Context, take func(prove.Rows) error) error {
	target := schema.Schema{Omission: schema.Omission{OmitRest: true}}
	object := -1
	for i, f := range s.request.Fields {
		if f.Name == objectColumn.Name {
			object = i
			continue
		}
		if f.Required = false; s.names != nil {
			f.Name = s.names[i]
		}
		target.Fields = append(target.Fields, f)
	}
	if s.ofTable {
		target.Fields = append(target.Fields, table.OriginField)
	}
	r := scan.Request{Target: scan.Target{Schema: target, Fixed: true, Style: s.style}, Splits: s.splits, Bounds: s.bounds(), Ranks: true,
		Budget: s.budget, Stage: run.Comparing}
	return s.from.Read(ctx, r, func(rows *scan.Rows) error { return s.hand(ctx, rows, object, take) })
}

// bounds are those of the numbers that rows of the source have.
func (s *scanned) bounds() []expr.Bound {
	if s.origins == nil || s.all {
		return nil
	}
	var list []int64
	for o := range s.origins {
		list = append(list, o)
	}
	slices.Sort(list)
	return []expr.Bound{{Column: table.OriginField.Name, Op: expr.Among, Between: func(low, high expr.Value) bool {
		at, _ := slices.BinarySearch(list, low.Long)
		return at < len(list) && list[at] <= high.Long
	}}}
}

// hand hands rows on: those of the source, or all.
func (s *scanned) hand(ctx context.Context, rows *scan.Rows, object int, take func(prove.Rows) error) error {
	n := int(rows.Batch.NumRows())
	columns := slices.Clone(rows.Batch.Columns())
	of := func(int) int64 { return 1 }
	var foreign func(int) bool
	var kept []int32
	if s.ofTable {
		last := len(columns) - 1
		origins, ok := columns[last].(*array.Int64)
		columns = columns[:last]
		if !ok {
			return fmt.Errorf("the column %s is %s", table.OriginField.Name, columns[last].DataType())
		}
		is := func(row int) (int, bool) {
			at, own := s.origins[origins.Value(row)]
			return at, own && origins.IsValid(row)
		}
		if s.origins != nil {
			of = func(row int) int64 {
				at, own := is(row)
				if !own {
					return 0
				}
				return int64(at) + 1
			}
			foreign = func(row int) bool { return of(row) == 0 }
			if kept = s.kept(origins, n); kept != nil {
				inner := of
				of, foreign = func(row int) int64 { return inner(int(kept[row])) }, nil
			}
		}
	}
	if object >= 0 {
		columns = slices.Insert(columns, object, arrow.Array(nil))
	}
	if kept != nil && len(kept) == 0 {
		return nil
	}
	return s.handColumns(ctx, rows, columns, object, kept, prove.Rows{Object: of, Foreign: foreign}, take)
}

// kept are the rows that came of the source, nil for all of them or where all are wanted.
func (s *scanned) kept(origins *array.Int64, n int) []int32 {
	if s.all {
		return nil
	}
	kept := make([]int32, 0, n)
	last, own := int64(-1), false
	for row := range n {
		if v := origins.Value(row); v != last {
			last = v
			_, own = s.origins[v]
		}
		if own && origins.IsValid(row) {
			kept = append(kept, int32(row))
		}
	}
	if len(kept) == n {
		return nil
	}
	return kept
}

func (s *scanned) handColumns(ctx context.Context, rows *scan.Rows, columns []arrow.Array, object int, kept []int32, r prove.Rows,
	take func(prove.Rows) error) error {
	n := int(rows.Batch.NumRows())
	if object >= 0 {
		places := make([]int64, n)
		for i := range places {
			places[i] = -1
			if s.all || kept == nil {
				places[i] = r.Object(i) - 1
			}
		}
		for i, row := range kept {
			places[row] = r.Object(i) - 1
		}
		columns[object] = longs(places)
	}
	r.Batch = recordOf(s.request, columns, int64(n))
	rank := func(row int) int { return row }
	if kept != nil {
		var err error
		if r.Batch, err = scan.Taken(ctx, r.Batch, kept); err != nil {
			return err
		}
		rank = func(row int) int { return int(kept[row]) }
	}
	file := int64(rows.Block.Object)
	r.Place = func(row int) prove.Place {
		return prove.Place{Object: file, Record: rows.Before + rows.Rank(rank(row)) + 1}
	}
	return take(r)
}

// place writes where a row is.
func (s *scanned) place(p prove.Place) string {
	location := s.from.Objects()[p.Object].Location
	if rel, ok := storage.Rel(s.within, location); ok && s.within != "" {
		location = rel
	}
	return fmt.Sprintf("%s row %d", location, p.Record)
}
