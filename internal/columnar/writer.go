package columnar

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/parquet"

	"trevak/internal/columnar/footer"
	"trevak/internal/magic"
	"trevak/internal/schema"
)

// Options says how a file is written.
type Options struct {
	// Format is Parquet where nothing is said.
	Format Format
	Codec  Codec
	// Codecs are those of single columns, by their legal paths; parts of nested columns take theirs.
	Codecs map[string]Codec
	// Bloom are columns, by their legal paths, that get Bloom filters.
	Bloom []string
	// SecondPages asks for data pages of version 2, whose levels are not compressed.
	SecondPages bool
	// RowGroupRows and RowGroupBytes end a row group, whichever is reached first; the bytes are those of encoded pages.
	RowGroupRows, RowGroupBytes int64
	// Counts asks for counts and bounds of the columns of files other than Parquet, which have them anyway.
	Counts bool
	// Geometry is a column of geometries in WKB, and GeometryBox that of their bounding boxes, of which the footer tells as
	// GeoParquet does; empty for none.
	Geometry, GeometryBox string
	// force is the encoding of every column in a trial.
	force string
	// Workers is how many columns are encoded at a time.
	Workers int
}

// DefaultOptions are zstd, and row groups of at most 1 Mi rows or 64 MiB.
var DefaultOptions = Options{Codec: DefaultCodec, RowGroupRows: 1 << 20, RowGroupBytes: 64 << 20, Workers: 1}

// createdBy is the name of the writing program in the footer.
const createdBy = "trevak"

// Writer writes one Parquet file: pages are encoded here. It keeps no more than a row group in memory. It is not safe for
// concurrent use.
type Writer struct {
	*plan
	sink    *countingWriter
	options Options
	footer  footer.File
	// pages are those of each column chunk, by row group and leaf column, for the page index; nil where the file gets none.
	pages   [][][]footer.Page
	indexed bool
	chunks  []*chunk
	rows    int64 // in the open row group
	header  []byte
	geo     *geo // nil without geometries
	err     error
}

// countingWriter counts the bytes that pass through.
type countingWriter struct {
	w io.Writer
	n int64
}

func (c *countingWriter) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

// put writes a header and what it stands before.
func (c *countingWriter) put(header, data []byte) error {
	if _, err := c.Write(header); err != nil {
		return err
	}
	_, err := c.Write(data)
	return err
}

// NewWriter begins a file of a schema whose fields have ids. The caller closes w after Close.
func NewWriter(w io.Writer, s schema.Schema, o Options) (*Writer, error) {
	p, err := newPlan(s, o)
	if err != nil {
		return nil, err
	}
	out := &Writer{plan: p, options: o}
	leaves := leafTypes(p.schema.Fields())
	// Readers that look for the pages of a column among those of very many others take longer than the pages do.
	out.indexed = len(leaves) <= wideLeaves
	if len(leaves) > veryWide {
		out.options.RowGroupBytes = min(o.RowGroupBytes, veryWideBytes)
	}
	for i, leaf := range leaves {
		v := newValues(leaf, p.codecs[i])
		if v == nil {
			return nil, fmt.Errorf("%s is not written yet", leaf)
		}
		if d, ok := v.(interface{ limitDictionary(int) }); ok {
			d.limitDictionary(dictionaryRoom(len(leaves)))
		}
		if f, ok := v.(interface{ forceEncoding(parquet.Encoding) }); ok && o.force != "" {
			f.forceEncoding(forced[o.force])
		}
		c := &chunk{column: p.tree.Column(i), values: v, codec: p.codecs[i], second: o.SecondPages,
			flat: len(p.columns[i].Path) == 1}
		if p.bloomed[i] {
			c.bloom = newBloom()
		}
		out.chunks = append(out.chunks, c)
	}
	return out, out.begin(w)
}

// Reopen begins another file of the same schema and options after Close, as a new Writer would, in the memory of this one.
func (w *Writer) Reopen(sink io.Writer) error {
	for _, c := range w.chunks {
		c.renew()
	}
	return w.begin(sink)
}

// begin writes how a file begins.
func (w *Writer) begin(sink io.Writer) error {
	w.sink = &countingWriter{w: sink}
	w.footer = footer.File{Columns: w.columns, Schema: w.elements, Elements: w.count, CreatedBy: createdBy}
	w.pages, w.rows, w.err, w.geo = nil, 0, nil, nil
	if w.options.Geometry != "" {
		w.geo = newGeo(w.schema, w.options.Geometry, w.options.GeometryBox)
	}
	_, err := io.WriteString(w.sink, magic.Parquet)
	return err
}

// Write appends the rows of a batch, whose columns must be those of the schema. After an error nothing more can be written.
func (w *Writer) Write(ctx context.Context, batch arrow.RecordBatch) error {
	if w.geo != nil {
		w.geo.add(batch)
	}
	for offset := int64(0); offset < batch.NumRows() && w.err == nil; {
		n := min(batch.NumRows()-offset, w.options.RowGroupRows-w.rows, pageRows)
		part := batch
		if n < batch.NumRows() {
			part = batch.NewSlice(offset, offset+n)
		}
		w.err = w.encode(ctx, part)
		offset += n
		w.rows += n
		if w.err == nil && (w.rows >= w.options.RowGroupRows || w.Pending() >= w.options.RowGroupBytes) {
			w.err = w.EndRowGroup()
		}
	}
	return w.err
}

// With more than veryWide leaf columns, each of which takes memory of its own, row groups have no more than veryWideBytes.
const (
	veryWide      = 4000
	veryWideBytes = 24 << 20
)

// fewRows is how many rows of a batch, or values of pages, are not worth a goroutine.
const fewRows = 1 << 10

// workers is how many columns of so many rows are worked on at a time.
func (w *Writer) workers(rows int64) int {
	if rows < fewRows {
		return 1
	}
	return w.options.Workers
}

// encode hands the columns of a batch to their chunks, side by side: each has encoders and pages of its own.
func (w *Writer) encode(ctx context.Context, batch arrow.RecordBatch) error {
	return sideBySide(int(batch.NumCols()), w.workers(batch.NumRows()), func(c int) error {
		field := w.schema.Field(c)
		chunks := w.chunks[w.first[c]:]
		for i, l := range shred(field, batch.Column(c)) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := chunks[i].add(l); err != nil {
				return fmt.Errorf("column %q: %w", field.Name, err)
			}
		}
		return nil
	})
}

// EndRowGroup writes what is pending to the file as a row group; there is nothing to do when no row is.
func (w *Writer) EndRowGroup() error {
	if w.rows == 0 {
		return nil
	}
	if err := w.endPages(); err != nil {
		return err
	}
	group := footer.RowGroup{Rows: w.rows, Chunks: make([]footer.Chunk, len(w.chunks))}
	pages := make([][]footer.Page, len(w.chunks))
	for i, c := range w.chunks {
		var err error
		if group.Chunks[i], pages[i], err = c.write(w.sink, w.indexed, &w.header); err != nil {
			return err
		}
	}
	w.footer.Groups = append(w.footer.Groups, group)
	if w.indexed {
		w.pages = append(w.pages, pages)
	}
	w.rows = 0
	return nil
}

// endPages encodes the open pages, side by side.
func (w *Writer) endPages() error {
	return sideBySide(len(w.chunks), w.workers(w.rows), func(i int) error { return w.chunks[i].endPage() })
}

// Pending returns about how many bytes are held in memory for the open row group.
func (w *Writer) Pending() int64 {
	var n int64
	for _, c := range w.chunks {
		n += c.pending()
	}
	return n
}

// Written returns how large the file is so far, what is pending included.
func (w *Writer) Written() int64 { return w.sink.n + w.Pending() }

// writeIndex writes the page index, where there is one: all column indexes, and then all offset indexes.
func (w *Writer) writeIndex() error {
	b := w.header[:0]
	for g, group := range w.pages {
		for i, pages := range group {
			k, at := &w.footer.Groups[g].Chunks[i], len(b)
			if !footer.Indexed(pages) {
				continue
			}
			b = footer.ColumnIndex(b, pages, w.chunks[i].order(pages))
			k.IndexOffset, k.IndexBytes = w.sink.n+int64(at), int32(len(b)-at)
		}
	}
	for g, group := range w.pages {
		for i, pages := range group {
			k, at := &w.footer.Groups[g].Chunks[i], len(b)
			b = footer.OffsetIndex(b, pages)
			k.OffsetIndexOffset, k.OffsetIndexBytes = w.sink.n+int64(at), int32(len(b)-at)
		}
	}
	w.header = b
	_, err := w.sink.Write(b)
	return err
}

// Close ends the file and describes it.
func (w *Writer) Close() (*Summary, error) {
	if w.err != nil {
		return nil, w.err
	}
	if err := w.EndRowGroup(); err != nil {
		return nil, err
	}
	if err := w.writeIndex(); err != nil {
		return nil, fmt.Errorf("writing the page index: %w", err)
	}
	if w.geo != nil {
		text, err := w.geo.metadata()
		if err != nil {
			return nil, err
		}
		w.footer.Notes = append(w.footer.Notes, [2]string{"geo", text})
	}
	b := w.footer.Append(w.header[:0])
	b = append(binary.LittleEndian.AppendUint32(b, uint32(len(b))), magic.Parquet...)
	w.header = b
	if _, err := w.sink.Write(b); err != nil {
		return nil, err
	}
	return w.summary(), nil
}
