package reconcile

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/prove"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/write"
)

// handed is the rows that the source gives, as a load would write them.
type handed struct {
	*comparing
	held *write.Handing
	of   *write.Output
	mark *expr.Expression // of rows that mark a delete, nil without any
	// marks has these rows come along.
	marks bool
}

// first reads the source for the first time, in which its columns turn out, and makes its digest.
func (h *handed) first(ctx context.Context, key []string) (*prove.Digest, error) {
	var d *prove.Digest
	var err error
	receive := func(of *write.Output, inputs []source.Input, absent []string) (write.Sink, error) {
		return h.receive(ctx, of, inputs, absent, key, &d)
	}
	h.held, err = load.HandOver(ctx, h.load, h.table, h.budget, receive)
	if err == nil {
		h.out.Source = h.held.Report
	}
	return d, err
}

// firstOfFiles is first for what is written to files.
func (h *handed) firstOfFiles(ctx context.Context, key []string) (*prove.Digest, error) {
	var d *prove.Digest
	var err error
	h.held, err = write.HandOver(ctx, h.load.Task, h.budget, func(of *write.Output, inputs []source.Input) (write.Sink, error) {
		names, err := keyNames(of.Schema, key, h.load.Corrections.Names)
		if err != nil {
			return nil, err
		}
		return h.receive(ctx, of, inputs, nil, names, &d)
	})
	if err == nil {
		h.out.Source = h.held.Report
	}
	return d, err
}

// keyNames are the columns of a key as they are called in a schema.
func keyNames(s schema.Schema, key []string, style schema.NameStyle) (out []string, err error) {
	index := schema.NewIndex(s.Fields, style)
	for _, name := range key {
		at := index.Find(name)
		if at < 0 {
			return nil, fault.New(fault.Usage, "there is no column %q for the key", name).Try("name a column of the source")
		}
		out = append(out, s.Fields[at].Name)
	}
	return out, nil
}

// receive prepares for rows with the columns of an output.
func (h *handed) receive(ctx context.Context, of *write.Output, inputs []source.Input, absent, key []string, d **prove.Digest) (write.Sink,
	error) {
	h.of, h.inputs = of, inputs
	err := h.compared(of, absent, key)
	if err != nil {
		return nil, err
	}
	if h.load.DeleteWhere != "" {
		if h.mark, err = expr.Parse(h.load.DeleteWhere, of.Schema.Fields); err != nil {
			return nil, fault.Wrap(fault.Usage, err, "--delete-where")
		}
	}
	s := h.sink(nil)
	s.pool, s.digest = prove.NewPool(ctx, h.request.Fields, h.request.Key, h.budget.Workers), d
	s.take = s.pool.Add
	return s, nil
}

// Read hands the rows over once more.
func (h *handed) Read(ctx context.Context, take func(prove.Rows) error) error {
	return h.held.Again(ctx, h.sink(take))
}

// withMarks is the side with rows that mark a delete, which are foreign to it.
func (h *handed) withMarks() prove.Side {
	out := *h
	out.marks = true
	return &out
}

func (h *handed) sink(take func(prove.Rows) error) *handSink {
	s := &handSink{of: h, take: take}
	for _, f := range h.request.Fields {
		s.columns = append(s.columns, h.of.Schema.Index(f.Name))
	}
	return s
}

// handSink is where the rows of a source go that are held against others.
type handSink struct {
	of      *handed
	take    func(prove.Rows) error
	columns []int // of the batches, -1 for the place of the object
	rows    int64
	// pool makes a digest of the rows, nil where they are looked at one after the other; it is ended with Close or Abandon.
	pool   *prove.Pool
	digest **prove.Digest
}

func (s *handSink) Write(ctx context.Context, batch arrow.RecordBatch) error {
	return s.WritePlaced(ctx, batch, &scan.Rows{}, 0)
}

// WritePlaced hands rows on with their places, but for those that mark a delete.
func (s *handSink) WritePlaced(ctx context.Context, batch arrow.RecordBatch, from *scan.Rows, before int64) error {
	s.rows += batch.NumRows()
	object := int64(from.Block.Object)
	columns := make([]arrow.Array, len(s.columns))
	for i, at := range s.columns {
		if at >= 0 {
			columns[i] = batch.Column(at)
		} else {
			columns[i] = repeated(object, int(batch.NumRows()))
		}
	}
	out := recordOf(s.of.request, columns, batch.NumRows())
	rank := func(row int) int { return row }
	var foreign func(int) bool
	if s.of.mark != nil {
		marked, err := s.of.mark.Rows(batch.Columns(), int(batch.NumRows()))
		if err != nil {
			return err
		}
		is := func(row int) bool {
			_, found := slices.BinarySearch(marked, int32(row))
			return found
		}
		if foreign = is; !s.of.marks && len(marked) > 0 {
			var kept []int32
			for row := range int(batch.NumRows()) {
				if !is(row) {
					kept = append(kept, int32(row))
				}
			}
			if out, err = scan.Taken(ctx, out, kept); err != nil {
				return err
			}
			foreign, rank = nil, func(row int) int { return int(kept[row]) }
		}
	}
	return s.take(prove.Rows{Batch: out, Foreign: foreign,
		Object: func(int) int64 { return object + 1 },
		Place: func(row int) prove.Place {
			return prove.Place{Object: object, Record: before + from.Rank(rank(row)) + 1}
		}})
}

func (s *handSink) Close(context.Context) (write.Stored, error) {
	var err error
	if p := s.pool; p != nil {
		s.pool = nil
		*s.digest, err = p.Close()
	}
	return write.Stored{Rows: s.rows}, err
}

func (s *handSink) Abandon() {
	if p := s.pool; p != nil {
		s.pool = nil
		// What was gathered counts for nothing.
		_, _ = p.Close()
	}
}

func (s *handSink) Coded() (columns, memory bool) { return s.of.mark == nil, s.pool == nil }

// recordOf makes a batch of the columns that are compared.
func recordOf(r prove.Request, columns []arrow.Array, rows int64) arrow.RecordBatch {
	fields := make([]arrow.Field, len(columns))
	for i, c := range columns {
		fields[i] = arrow.Field{Name: r.Fields[i].Name, Type: c.DataType(), Nullable: true}
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, rows)
}

// repeated is a column of one number.
func repeated(v int64, n int) arrow.Array {
	values := make([]int64, n)
	for i := range values {
		values[i] = v
	}
	return longs(values)
}

func longs(values []int64) arrow.Array {
	return array.NewInt64Data(array.NewData(arrow.PrimitiveTypes.Int64, len(values),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int64Traits.CastToBytes(values))}, nil, 0, 0))
}
