package columnar

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/extensions"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/metadata"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"
	"golang.org/x/sync/errgroup"

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

// Writer writes one Parquet file: pages are encoded here, the footer and the headers of pages are the library's. It keeps no
// more than a row group in memory. It is not safe for concurrent use.
type Writer struct {
	sink    *countingWriter
	schema  *arrow.Schema
	options Options
	tree    *pqschema.Schema
	footer  *metadata.FileMetaDataBuilder
	index   *metadata.PageIndexBuilder
	chunks  []*chunk
	rows    int64 // in the open row group
	groups  int16
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

// Tell returns the offset of the next byte.
func (c *countingWriter) Tell() int64 { return c.n }

// NewWriter begins a file of a schema whose fields have ids. The caller closes w after Close.
func NewWriter(w io.Writer, s schema.Schema, o Options) (*Writer, error) {
	props := parquet.NewWriterProperties(parquet.WithVersion(parquet.V2_LATEST), parquet.WithStoreDecimalAsInteger(true),
		parquet.WithCreatedBy(createdBy))
	out := &Writer{sink: &countingWriter{w: w}, schema: s.Arrow(), options: o}
	tree, err := pqarrow.ToParquet(arrow.NewSchema(annotated(out.schema.Fields(), s.Fields), nil), props, pqarrow.DefaultWriterProps())
	if err != nil {
		return nil, fmt.Errorf("the schema has no Parquet form: %w", err)
	}
	paths := leafPaths(s)
	chosen := make([]Codec, len(paths))
	compressed := []parquet.WriterProperty{parquet.WithVersion(parquet.V2_LATEST), parquet.WithStoreDecimalAsInteger(true),
		parquet.WithCreatedBy(createdBy)}
	for i, path := range paths {
		chosen[i] = o.codecOf(path)
		compressed = append(compressed, parquet.WithCompressionFor(tree.Column(i).Path(), chosen[i].parquet()))
	}
	props = parquet.NewWriterProperties(compressed...)
	out.tree = tree
	out.footer = metadata.NewFileMetadataBuilder(tree, props, nil)
	// Readers that look for the pages of a column among those of very many others take longer than the pages do.
	if tree.NumColumns() <= wideLeaves {
		out.index = &metadata.PageIndexBuilder{Schema: tree}
	}
	leaves := leafTypes(out.schema.Fields())
	for _, leaf := range leaves {
		i := len(out.chunks)
		v := newValues(leaf, chosen[i])
		if d, ok := v.(interface{ limitDictionary(int) }); ok {
			d.limitDictionary(dictionaryRoom(len(leaves)))
		}
		if f, ok := v.(interface{ forceEncoding(parquet.Encoding) }); ok && o.force != "" {
			f.forceEncoding(forced[o.force])
		}
		if v == nil {
			return nil, fmt.Errorf("%s is not written yet", leaf)
		}
		c := &chunk{column: tree.Column(i), values: v, codec: chosen[i], second: o.SecondPages,
			flat: len(tree.Column(i).ColumnPath()) == 1}
		if slices.Contains(o.Bloom, paths[i]) {
			c.bloom = newBloom()
		}
		out.chunks = append(out.chunks, c)
	}
	if o.Geometry != "" {
		out.geo = newGeo(out.schema, o.Geometry, o.GeometryBox)
	}
	_, err = io.WriteString(out.sink, magic.Parquet)
	return out, err
}

// codecOf returns the codec of a leaf column: its own, that of the nearest column it is a part of, or that of all.
func (o Options) codecOf(path string) Codec {
	for at := path; at != ""; {
		if c, ok := o.Codecs[at]; ok {
			return c
		}
		last := strings.LastIndexByte(at, '.')
		if last < 0 {
			break
		}
		at = at[:last]
	}
	return o.Codec
}

// leafPaths lists the legal paths of the leaf columns in the order of a Parquet schema.
func leafPaths(s schema.Schema) []string {
	var out []string
	s.Walk(func(path string, f *schema.Field) {
		if !f.Type.Nested() {
			out = append(out, path)
		}
	})
	return out
}

// annotated gives uuid columns the type by which the library annotates them in a Parquet schema.
func annotated(fields []arrow.Field, of []schema.Field) []arrow.Field {
	out := slices.Clone(fields)
	for i := range out {
		out[i].Type = annotatedType(out[i].Type, of[i].Type)
	}
	return out
}

func annotatedType(dt arrow.DataType, of schema.Type) arrow.DataType {
	switch of.Kind {
	case schema.UUID:
		return extensions.NewUUIDType()
	case schema.Struct:
		return arrow.StructOf(annotated(dt.(*arrow.StructType).Fields(), of.Fields)...)
	case schema.List:
		return arrow.ListOfField(annotated([]arrow.Field{dt.(*arrow.ListType).ElemField()}, []schema.Field{*of.Element})[0])
	case schema.Map:
		t := dt.(*arrow.MapType)
		parts := annotated([]arrow.Field{t.KeyField(), t.ItemField()}, []schema.Field{*of.Key, *of.Element})
		return arrow.MapOfFields(parts[0], parts[1])
	}
	return dt
}

// leafTypes lists the types of the leaf columns in the order of a Parquet schema.
func leafTypes(fields []arrow.Field) []arrow.DataType {
	var out []arrow.DataType
	for _, f := range fields {
		switch t := f.Type.(type) {
		case *arrow.MapType:
			out = append(out, leafTypes([]arrow.Field{t.KeyField(), t.ItemField()})...)
		case arrow.NestedType:
			out = append(out, leafTypes(t.Fields())...)
		default:
			out = append(out, t)
		}
	}
	return out
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

// encode hands the columns of a batch to their chunks, side by side: each has encoders and pages of its own.
func (w *Writer) encode(ctx context.Context, batch arrow.RecordBatch) error {
	workers, ctx := errgroup.WithContext(ctx)
	workers.SetLimit(max(1, w.options.Workers))
	first := 0
	for c := range int(batch.NumCols()) {
		field, column := w.schema.Field(c), batch.Column(c)
		chunks := w.chunks[first:]
		first += len(leafTypes([]arrow.Field{field}))
		workers.Go(func() error {
			for i, l := range shred(field, column) {
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
	return workers.Wait()
}

// EndRowGroup writes what is pending to the file as a row group; there is nothing to do when no row is.
func (w *Writer) EndRowGroup() error {
	if w.rows == 0 {
		return nil
	}
	if err := w.endPages(); err != nil {
		return err
	}
	if w.index != nil {
		if err := w.index.AppendRowGroup(); err != nil {
			return err
		}
	}
	group := w.footer.AppendRowGroup()
	for i, c := range w.chunks {
		index, offsets, err := w.indexOf(i)
		if err != nil {
			return err
		}
		if err := c.write(w.sink, group.NextColumnChunk(), w.groups, int16(i), index, offsets); err != nil {
			return err
		}
	}
	group.SetNumRows(int(w.rows))
	if err := group.Finish(0, w.groups); err != nil {
		return err
	}
	w.rows = 0
	w.groups++
	return nil
}

// indexOf returns what gathers the page index of a column, nil where the file gets none.
func (w *Writer) indexOf(column int) (metadata.ColumnIndexBuilder, *metadata.OffsetIndexBuilder, error) {
	if w.index == nil {
		return nil, nil, nil
	}
	index, err := w.index.GetColumnIndexBuilder(column)
	if err != nil {
		return nil, nil, err
	}
	offsets, err := w.index.GetOffsetIndexBuilder(column)
	return index, offsets, err
}

// endPages encodes the open pages, side by side.
func (w *Writer) endPages() error {
	var workers errgroup.Group
	workers.SetLimit(max(1, w.options.Workers))
	for _, c := range w.chunks {
		workers.Go(c.endPage)
	}
	return workers.Wait()
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

// writeIndex writes the page index, where there is one.
func (w *Writer) writeIndex() error {
	if w.index == nil {
		return nil
	}
	w.index.Finish()
	var location metadata.PageIndexLocation
	if err := w.index.WriteTo(w.sink, &location); err != nil {
		return fmt.Errorf("writing the page index: %w", err)
	}
	return w.footer.SetPageIndexLocation(location)
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
		return nil, err
	}
	if w.geo != nil {
		text, err := w.geo.metadata()
		if err != nil {
			return nil, err
		}
		if err := w.footer.AppendKeyValueMetadata("geo", text); err != nil {
			return nil, err
		}
	}
	footer, err := w.footer.Finish()
	if err != nil {
		return nil, err
	}
	size, err := footer.WriteTo(w.sink, nil)
	if err != nil {
		return nil, err
	}
	if _, err := w.sink.Write(append(binary.LittleEndian.AppendUint32(nil, uint32(size)), magic.Parquet...)); err != nil {
		return nil, err
	}
	nans := make([]int64, len(w.chunks))
	for i, c := range w.chunks {
		nans[i] = c.values.notNumbers()
	}
	return summarize(footer, w.sink.n, nans)
}
