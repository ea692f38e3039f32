package layout

import (
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/schema"
)

// Options says how rows are laid out.
type Options struct {
	Columnar columnar.Options
	// FileBytes is the size at which a file is ended and another begun.
	FileBytes int64
	// BudgetBytes bounds what rows and pages may wait in memory for all partitions together.
	BudgetBytes int64
	// OpenFiles bounds how many files are written at a time.
	OpenFiles int
	// EvenEmpty asks for a file where there is no row to put into one. It is for output without partitions.
	EvenEmpty bool
}

// DefaultOptions are files of 256 MiB, 128 MiB of waiting rows and pages, and 32 open files.
var DefaultOptions = Options{Columnar: columnar.DefaultOptions, FileBytes: 256 << 20, BudgetBytes: 128 << 20, OpenFiles: 32}

// waitBytes is how much of one partition is gathered before it is worth encoding.
const waitBytes = 1 << 20

// Create makes a new file in a folder relative to the destination, which is "" without partitions, and returns where it lies.
type Create func(folder string) (w io.WriteCloser, path string, err error)

// DataFile is a finished file.
type DataFile struct {
	Path   string
	Folder string
	// Values are the partition values, one for each field of the spec.
	Values  []Value
	Summary *columnar.Summary
}

// Router sends the rows of batches to the files of their partitions. It is not safe for concurrent use.
type Router struct {
	schema  schema.Schema
	spec    Spec
	options Options
	create  Create

	sources    []int // column of each transform
	types      []arrow.DataType
	codes      []map[Value]uint32  // per transform: number of each value
	values     [][]Value           // per transform: value of each number
	pairs      []map[uint64]uint32 // per transform after the first: number of each combination with those before it
	partitions []*partition
	waiting    int64
	open       []*partition // least recently written first
	files      []DataFile
}

// partition is the rows and the file of one combination of partition values.
type partition struct {
	values  []Value
	folder  string
	waiting []arrow.RecordBatch
	bytes   int64
	writer  *columnar.Writer
	sink    io.WriteCloser
	path    string
}

// NewRouter prepares for batches of a schema.
func NewRouter(s schema.Schema, spec Spec, o Options, create Create) *Router {
	r := &Router{schema: s, spec: spec, options: o, create: create}
	for i, t := range spec {
		column := s.Index(t.Column)
		r.sources = append(r.sources, column)
		r.types = append(r.types, s.Fields[column].Type.Arrow())
		r.codes = append(r.codes, map[Value]uint32{})
		r.values = append(r.values, nil)
		if i > 0 {
			r.pairs = append(r.pairs, map[uint64]uint32{})
		}
	}
	if len(spec) == 0 {
		r.partitions = []*partition{{}}
	}
	return r
}

// Partitions returns how many partitions have rows.
func (r *Router) Partitions() int {
	if len(r.spec) == 0 {
		return 0
	}
	return len(r.partitions)
}

// Write sends on the rows of a batch.
func (r *Router) Write(ctx context.Context, batch arrow.RecordBatch) error {
	if batch.NumRows() == 0 {
		return nil
	}
	if len(r.spec) == 0 {
		return r.encode(ctx, r.partitions[0], batch)
	}
	for p, rows := range r.assign(batch) {
		if len(rows) == 0 {
			continue
		}
		part, err := gather(ctx, batch, rows)
		if err != nil {
			return fmt.Errorf("gathering the rows of a partition: %w", err)
		}
		if err := r.wait(ctx, r.partitions[p], part); err != nil {
			return err
		}
	}
	return r.relieve(ctx)
}

// assign returns the rows of each partition, by the partition's number.
func (r *Router) assign(batch arrow.RecordBatch) [][]int32 {
	n := int(batch.NumRows())
	numbers := make([]uint32, n)
	for i, t := range r.spec {
		column := batch.Column(r.sources[i])
		for row := range n {
			v := t.apply(column, row)
			code, ok := r.codes[i][v]
			if !ok {
				code = uint32(len(r.values[i]))
				r.codes[i][v] = code
				r.values[i] = append(r.values[i], v)
			}
			if i == 0 {
				numbers[row] = code
				continue
			}
			key := uint64(numbers[row])<<32 | uint64(code)
			number, ok := r.pairs[i-1][key]
			if !ok {
				number = uint32(len(r.pairs[i-1]))
				r.pairs[i-1][key] = number
			}
			numbers[row] = number
		}
	}
	var rows [][]int32
	for row, number := range numbers {
		for int(number) >= len(rows) {
			rows = append(rows, nil)
		}
		if int(number) >= len(r.partitions) || r.partitions[number] == nil {
			r.found(batch, row, number)
		}
		rows[number] = append(rows[number], int32(row))
	}
	return rows
}

// found makes the partition that a row is the first of.
func (r *Router) found(batch arrow.RecordBatch, row int, number uint32) {
	p := &partition{values: make([]Value, len(r.spec))}
	for i, t := range r.spec {
		p.values[i] = t.apply(batch.Column(r.sources[i]), row)
	}
	p.folder = r.spec.Folder(p.values, r.types)
	for int(number) >= len(r.partitions) {
		r.partitions = append(r.partitions, nil)
	}
	r.partitions[number] = p
}

// gather copies the given rows of a batch.
func gather(ctx context.Context, batch arrow.RecordBatch, rows []int32) (arrow.RecordBatch, error) {
	if len(rows) == int(batch.NumRows()) {
		return batch, nil
	}
	indices := array.NewInt32Data(array.NewData(arrow.PrimitiveTypes.Int32, len(rows),
		[]*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int32Traits.CastToBytes(rows))}, nil, 0, 0))
	columns := make([]arrow.Array, batch.NumCols())
	for c := range columns {
		taken, err := compute.TakeArray(ctx, batch.Column(c), indices)
		if err != nil {
			return nil, err
		}
		columns[c] = taken
	}
	return array.NewRecordBatch(batch.Schema(), columns, int64(len(rows))), nil
}

// wait keeps rows until a partition has enough of them to be worth encoding.
func (r *Router) wait(ctx context.Context, p *partition, batch arrow.RecordBatch) error {
	size := batchBytes(batch)
	p.waiting = append(p.waiting, batch)
	p.bytes += size
	r.waiting += size
	if p.bytes < waitBytes {
		return nil
	}
	return r.flush(ctx, p)
}

// flush encodes the rows a partition keeps.
func (r *Router) flush(ctx context.Context, p *partition) error {
	for _, batch := range p.waiting {
		if err := r.encode(ctx, p, batch); err != nil {
			return err
		}
	}
	r.waiting -= p.bytes
	p.waiting, p.bytes = nil, 0
	return nil
}

// encode writes rows to a partition's file, opening it where there is none and ending it where it is large enough.
func (r *Router) encode(ctx context.Context, p *partition, batch arrow.RecordBatch) error {
	if p.writer == nil {
		if len(r.open) >= r.options.OpenFiles {
			if err := r.end(r.open[0]); err != nil {
				return err
			}
		}
		if err := r.begin(p); err != nil {
			return err
		}
	} else if last := len(r.open) - 1; r.open[last] != p {
		r.forget(p)
		r.open = append(r.open, p)
	}
	if err := p.writer.Write(ctx, batch); err != nil {
		return fmt.Errorf("writing %s: %w", p.path, err)
	}
	if p.writer.Written() >= r.options.FileBytes {
		return r.end(p)
	}
	return nil
}

// begin opens a partition's file.
func (r *Router) begin(p *partition) (err error) {
	if p.sink, p.path, err = r.create(p.folder); err != nil {
		return err
	}
	if p.writer, err = columnar.NewWriter(p.sink, r.schema, r.options.Columnar); err != nil {
		p.sink.Close()
		return err
	}
	r.open = append(r.open, p)
	return nil
}

// relieve makes room when too much waits: the file with most in memory is ended, or the partition with most rows encoded.
func (r *Router) relieve(ctx context.Context) error {
	for {
		total := r.waiting
		var fullest, widest *partition
		for _, p := range r.open {
			total += p.writer.Pending()
			if fullest == nil || p.writer.Pending() > fullest.writer.Pending() {
				fullest = p
			}
		}
		if total <= r.options.BudgetBytes {
			return nil
		}
		for _, p := range r.partitions {
			if p != nil && (widest == nil || p.bytes > widest.bytes) {
				widest = p
			}
		}
		if fullest != nil && fullest.writer.Pending() >= r.waiting/2 {
			if err := r.end(fullest); err != nil {
				return err
			}
		} else if err := r.flush(ctx, widest); err != nil {
			return err
		}
	}
}

// end finishes a partition's file.
func (r *Router) end(p *partition) error {
	summary, err := p.writer.Close()
	if err == nil {
		err = p.sink.Close()
	} else {
		p.sink.Close()
	}
	r.forget(p)
	p.writer, p.sink = nil, nil
	if err != nil {
		return fmt.Errorf("finishing %s: %w", p.path, err)
	}
	r.files = append(r.files, DataFile{Path: p.path, Folder: p.folder, Values: p.values, Summary: summary})
	return nil
}

func (r *Router) forget(p *partition) {
	for i, other := range r.open {
		if other == p {
			r.open = append(r.open[:i], r.open[i+1:]...)
			return
		}
	}
}

// Close encodes what waits, finishes every file and returns them all in the order they were finished.
func (r *Router) Close(ctx context.Context) ([]DataFile, error) {
	for _, p := range r.partitions {
		if p == nil || len(p.waiting) == 0 {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := r.flush(ctx, p); err != nil {
			return nil, err
		}
		// Nothing more will come for this partition.
		if err := r.end(p); err != nil {
			return nil, err
		}
	}
	if r.options.EvenEmpty && len(r.files)+len(r.open) == 0 {
		if err := r.begin(r.partitions[0]); err != nil {
			return nil, err
		}
	}
	for len(r.open) > 0 {
		if err := r.end(r.open[0]); err != nil {
			return nil, err
		}
	}
	return r.files, nil
}

// Abandon closes every open file after a failure; what they hold is worthless.
func (r *Router) Abandon() {
	for _, p := range r.open {
		p.sink.Close()
	}
	r.open = nil
}

// batchBytes is about how much memory a batch takes.
func batchBytes(batch arrow.RecordBatch) int64 {
	var n int64
	for _, column := range batch.Columns() {
		n += dataBytes(column.Data())
	}
	return n
}

func dataBytes(d arrow.ArrayData) int64 {
	var n int64
	for _, b := range d.Buffers() {
		if b != nil {
			n += int64(b.Len())
		}
	}
	for _, child := range d.Children() {
		n += dataBytes(child)
	}
	return n
}
