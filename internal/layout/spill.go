package layout

import (
	"bufio"
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"

	"trevak/internal/columnar"
	"trevak/internal/storage"
)

// disk is rows that wait on the disk, in runs of sorted ones.
type disk struct {
	dir  string           // where the file is made, empty for the system's own place
	file *storage.Scratch // nil until there is a run
	size int64
	runs []*spilled
}

// spilled is rows on the disk, in the order of their partitions and of the sort order, in Arrow's IPC format. The values of
// columns that are numbered are on the disk as their numbers.
type spilled struct {
	reader *ipc.FileReader
	// step is how many rows are in each record batch but the last.
	step int
	// palettes are those of columns that are numbered, nil for others.
	palettes []*palette
	fields   []arrow.Field
	// spans are where the rows of each partition lie, in the order of the partitions' numbers.
	spans []span
	next  int // of spans, that was not merged yet

	loaded arrow.RecordBatch
	number int // of the loaded batch; -1 for none
}

// span is the rows of a partition within a run.
type span struct{ partition, start, end int }

// take puts the rows that wait in memory on the disk, in the order of their partitions, of which there are so many, and of the
// sort order.
func (d *disk) take(ctx context.Context, w *waiting, partitions int) error {
	if d.file == nil {
		file, err := storage.NewScratch(d.dir)
		if err != nil {
			return fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
		}
		d.file = file
	}
	out := &spilled{number: -1, fields: w.fields}
	var order []uint32
	for _, r := range w.runs(partitions) {
		out.spans = append(out.spans, span{r.partition, len(order), len(order) + len(r.rows)})
		order = append(order, r.rows...)
	}
	for _, c := range w.columns {
		var p *palette
		if l, ok := c.(*leaves); ok {
			p = l.palette
		}
		out.palettes = append(out.palettes, p)
	}
	if err := d.write(ctx, w, order, out); err != nil {
		return fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
	}
	d.runs = append(d.runs, out)
	w.empty()
	return nil
}

// spillBytes is about how much of a spilled run is read at a time.
const spillBytes = 256 << 10

// write puts rows behind those that are in the file.
func (d *disk) write(ctx context.Context, w *waiting, order []uint32, out *spilled) error {
	out.step = max(16, min(8192, int(spillBytes*int64(len(order))/(1+w.bytes()))))
	counted := &counting{w: bufio.NewWriterSize(d.file, 1<<20)}
	var file *ipc.FileWriter
	for start := 0; start < len(order); start += out.step {
		batch, err := d.numbers(ctx, w, order[start:min(len(order), start+out.step)], out.palettes)
		if err != nil {
			return err
		}
		if file == nil {
			if file, err = ipc.NewFileWriter(counted, ipc.WithSchema(batch.Schema())); err != nil {
				return err
			}
		}
		if err := file.Write(batch); err != nil {
			return err
		}
	}
	if err := file.Close(); err != nil {
		return err
	}
	if err := counted.w.Flush(); err != nil {
		return err
	}
	section := io.NewSectionReader(d.file, d.size, counted.n)
	d.size += counted.n
	var err error
	out.reader, err = ipc.NewFileReader(section)
	return err
}

// numbers makes a batch of some rows, with the numbers of values where there are such, and without dictionaries.
func (d *disk) numbers(ctx context.Context, w *waiting, rows []uint32, palettes []*palette) (arrow.RecordBatch, error) {
	columns := make([]arrow.Array, len(w.columns))
	for i, c := range w.columns {
		if palettes[i] != nil {
			l := c.(*leaves)
			d := array.NewDictionaryData(codedData(l.palette, &l.codes, &l.valid, rows))
			columns[i] = d.Indices()
			continue
		}
		// A file of so few rows has no dictionaries.
		columns[i] = array.MakeFromData(c.take(rows, 0))
	}
	return w.batch(columns, len(rows)), ctx.Err()
}

// close gives up all rows.
func (d *disk) close() {
	if d.file != nil {
		d.file.Close()
	}
	d.file, d.runs = nil, nil
}

// counting counts the bytes that pass through.
type counting struct {
	w *bufio.Writer
	n int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// at returns the record batch that holds a row, and the row within it.
func (s *spilled) at(row int) (arrow.RecordBatch, int, error) {
	n := row / s.step
	if s.number != n {
		b, err := s.reader.RecordBatchAt(n)
		if err != nil {
			return nil, 0, fmt.Errorf("rows that wait cannot be read back: %w", err)
		}
		s.loaded, s.number = s.valued(b), n
	}
	return s.loaded, row - n*s.step, nil
}

// valued gives numbers their values.
func (s *spilled) valued(b arrow.RecordBatch) arrow.RecordBatch {
	columns, fields := make([]arrow.Array, b.NumCols()), append([]arrow.Field(nil), s.fields...)
	for i := range columns {
		columns[i] = b.Column(i)
		if p := s.palettes[i]; p != nil {
			numbers := columns[i].Data()
			dt := &arrow.DictionaryType{IndexType: arrow.PrimitiveTypes.Uint32, ValueType: p.dt}
			columns[i] = array.NewDictionaryData(array.NewDataWithDictionary(dt, numbers.Len(), numbers.Buffers(), numbers.NullN(),
				numbers.Offset(), p.array().Data().(*array.Data)))
		}
		fields[i].Type = columns[i].DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows())
}

// rowBytes is how much memory a row of a batch takes.
func rowBytes(batch arrow.RecordBatch) float64 {
	return float64(columnar.BatchBytes(batch)) / float64(max(batch.NumRows(), 1))
}
