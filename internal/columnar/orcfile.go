package columnar

import (
	"context"
	"io"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/parquet/compress"

	"trevak/internal/columnar/orc"
	"trevak/internal/schema"
)

// orcWriter writes ORC files; row groups are their stripes.
type orcWriter struct {
	*orc.Writer
	sink *countingWriter
}

func newORCWriter(w io.Writer, s schema.Schema, o Options) (FileWriter, error) {
	level := o.Codec.level()
	if level == compress.DefaultCompressionLevel {
		level = 0
	}
	sink := &countingWriter{w: w}
	file, err := orc.NewWriter(sink, s, orc.Options{Codec: o.Codec.name(), Level: level, StripeRows: o.RowGroupRows,
		StripeBytes: o.RowGroupBytes, Bloom: o.Bloom})
	return &orcWriter{file, sink}, err
}

func (w *orcWriter) EndRowGroup() error { return w.EndStripe() }

// Written includes what is pending, as if it were not compressed.
func (w *orcWriter) Written() int64 { return w.Writer.Written() + w.Pending()/2 }

func (w *orcWriter) Close() (*Summary, error) {
	rows, err := w.Writer.Close()
	return &Summary{Rows: rows, Bytes: w.sink.n, Columns: map[int]*Metrics{}}, err
}

// orcFile is an ORC file that is read.
type orcFile struct{ *orc.File }

func openORC(from io.ReaderAt, size int64) (rowReader, error) {
	f, err := orc.Open(from, size)
	if err != nil {
		return nil, err
	}
	return &orcFile{f}, nil
}

func (o *orcFile) schema() *arrow.Schema { return o.Schema() }

func (o *orcFile) format() string { return "ORC" }

func (o *orcFile) rows() int64 { return o.Rows() }

func (o *orcFile) batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	return o.Batches(ctx, emit)
}

// orcLayout describes how an ORC file is built.
func (f *File) orcLayout(o *orcFile) (Layout, error) {
	built, err := o.Layout()
	if err != nil {
		return Layout{}, broken(f.location, err)
	}
	out := Layout{Location: f.location, Format: o.format(), Bytes: f.size, Rows: o.Rows(), CreatedBy: built.Software,
		Version: built.Version, Keys: built.Keys}
	for _, s := range built.Stripes {
		out.Groups = append(out.Groups, GroupLayout{Rows: s.Rows, Bytes: s.Bytes})
	}
	f.Schema.Walk(func(path string, field *schema.Field) {
		if field.Type.Nested() {
			return
		}
		c := built.Columns[len(out.Columns)]
		column := ColumnLayout{Path: path, ID: field.ID, Type: c.Type, Codecs: []string{built.Codec}, Encodings: c.Encodings,
			Bytes: c.Bytes, Bloom: c.Bloom,
			Smallest: c.Smallest, Largest: c.Largest, HasMinMax: c.Smallest != "" || c.Largest != "", Values: max(0, c.Values)}
		// How many are null is told of columns that have a value for each row; within lists only the file itself knows.
		if c.Values >= 0 && !strings.Contains(path, ".") {
			column.Values, column.Nulls = out.Rows, out.Rows-c.Values
		}
		for _, e := range c.Encodings {
			column.Dictionary = column.Dictionary || strings.HasPrefix(e, "dictionary")
		}
		out.Columns = append(out.Columns, column)
	})
	return out, nil
}
