package columnar

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/metadata"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// File is an open columnar file: Parquet, ORC, Arrow or Avro. The caller closes it.
type File struct {
	// Schema is the file's own schema.
	Schema   schema.Schema
	other    rowReader // nil for Parquet
	location string
	reader   *file.Reader
	stored   storage.File
	size     int64
}

// Open reads the footer of an object as it is now.
func Open(ctx context.Context, s storage.Store, uri string) (*File, error) {
	cannot := func(err error) error {
		return &fault.Error{Kind: fault.Storage, Object: storage.Shown(uri), Reason: "cannot be opened", Cause: err}
	}
	object, err := s.Stat(ctx, uri)
	if err != nil {
		return nil, cannot(err)
	}
	stored, err := s.Open(ctx, object)
	if err != nil {
		return nil, cannot(err)
	}
	return OpenFile(storage.Shown(uri), stored, object.Size)
}

// OpenFile reads the footer of a file of so many bytes, which it closes with its own, or if it is no columnar file.
func OpenFile(location string, stored storage.File, size int64) (f *File, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
		if err != nil {
			stored.Close()
			err = broken(location, err)
		}
	}()
	other, err := openOther(stored, size)
	if err != nil {
		return nil, err
	}
	if other != nil {
		s, err := schema.FromArrow(other.schema())
		if err != nil {
			return nil, err
		}
		return &File{Schema: s, other: other, location: location, stored: stored, size: size}, nil
	}
	properties := readProperties()
	reader, err := file.NewParquetReader(io.NewSectionReader(stored, 0, size), file.WithReadProps(properties))
	if err != nil {
		return nil, err
	}
	properties.BufferSize = max(leastBuffer, min(chunkBuffer, chunkBuffers/max(1, int64(reader.MetaData().Schema.NumColumns()))))
	if err := plausible(reader.MetaData(), size); err != nil {
		return nil, err
	}
	tree, err := pqarrow.FromParquet(reader.MetaData().Schema, nil, reader.MetaData().KeyValueMetadata())
	if err != nil {
		return nil, err
	}
	s, err := schema.FromArrow(tree)
	if err != nil {
		return nil, err
	}
	withoutZone(&s, reader.MetaData())
	return &File{Schema: s, location: location, reader: reader, stored: stored, size: size}, nil
}

// chunkBuffer is how much of a column chunk is read at a time, in bytes, less of files with very many columns: chunkBuffers
// together, but leastBuffer each.
const (
	chunkBuffer  = 128 << 10
	chunkBuffers = 32 << 20
	leastBuffer  = 4 << 10
)

// readProperties have column chunks read in pieces, so that what is passed over is not read.
func readProperties() *parquet.ReaderProperties {
	p := parquet.NewReaderProperties(memory.DefaultAllocator)
	p.BufferedStreamEnabled, p.BufferSize = true, chunkBuffer
	return p
}

// withoutZone makes timestamps of INT96 columns local: the old form says nothing of a zone, unless the writer kept its own
// schema with the file.
func withoutZone(s *schema.Schema, footer *metadata.FileMetaData) {
	tree, zoned := footer.Schema, zonedColumns(footer)
	leaf := 0
	s.Walk(func(_ string, f *schema.Field) {
		if f.Type.Nested() {
			return
		}
		if leaf < tree.NumColumns() && tree.Column(leaf).PhysicalType() == parquet.Types.Int96 && !zoned[tree.Column(leaf).Path()] {
			f.Type.Kind = schema.Timestamp
		}
		leaf++
	})
}

// zonedColumns lists the top-level columns that have a zone in the Arrow schema which the writer may have put into the file
// (Arrow, "Parquet: storing the Arrow schema").
func zonedColumns(footer *metadata.FileMetaData) map[string]bool {
	value := footer.KeyValueMetadata().FindValue("ARROW:schema")
	if value == nil {
		return nil
	}
	text, err := base64.StdEncoding.DecodeString(*value)
	if err != nil {
		return nil
	}
	r, err := ipc.NewReader(bytes.NewReader(text))
	if err != nil {
		return nil
	}
	defer r.Release()
	out := map[string]bool{}
	for _, f := range r.Schema().Fields() {
		if t, ok := f.Type.(*arrow.TimestampType); ok && t.TimeZone != "" {
			out[f.Name] = true
		}
	}
	return out
}

// plausible checks that what the footer says lies within the file: the library trusts it, and reads in goroutines whose
// panics cannot be caught.
func plausible(footer *metadata.FileMetaData, whole int64) error {
	var rows int64
	for g := range footer.NumRowGroups() {
		group := footer.RowGroup(g)
		if group.NumRows() < 0 || group.NumColumns() != footer.Schema.NumColumns() {
			return fmt.Errorf("row group %d has %d rows and %d columns, the schema has %d", g, group.NumRows(), group.NumColumns(),
				footer.Schema.NumColumns())
		}
		rows += group.NumRows()
		for c := range group.NumColumns() {
			chunk, err := group.ColumnChunk(c)
			if err != nil {
				return fmt.Errorf("row group %d, column %q: %w", g, footer.Schema.Column(c).Path(), err)
			}
			start, size := chunk.DataPageOffset(), chunk.TotalCompressedSize()
			if chunk.HasDictionaryPage() {
				start = min(start, chunk.DictionaryPageOffset())
			}
			if start < 0 || size < 0 || start > whole-size || chunk.NumValues() < 0 ||
				chunk.Type() != footer.Schema.Column(c).PhysicalType() {
				return fmt.Errorf("row group %d, column %q: %d values in %d bytes from byte %d on do not lie in the file of %d bytes", g,
					footer.Schema.Column(c).Path(), chunk.NumValues(), size, start, whole)
			}
		}
	}
	if rows != footer.GetNumRows() {
		return fmt.Errorf("the row groups hold %d rows, the footer counts %d", rows, footer.GetNumRows())
	}
	return nil
}

// broken names the file that an error of the library is about; errors with a kind are left as they are.
func broken(location string, err error) error {
	if fault.KindOf(err) != 0 || errors.Is(err, context.Canceled) {
		return err
	}
	return &fault.Error{Kind: fault.Input, Object: location, Reason: "cannot be read as a columnar file", Cause: unnamed{err},
		WayOut: "ask the sender for a whole copy"}
}

// unnamed is an error of the library without its name in front: who reads it knows the format already.
type unnamed struct{ error }

func (u unnamed) Error() string { return strings.ReplaceAll(u.error.Error(), "parquet: ", "") }

// Unwrap returns the error as it was.
func (u unnamed) Unwrap() error { return u.error }

// wrapped is broken for an error that may be none, or another's who takes the batches.
func wrapped(location string, err error) error {
	if err == nil {
		return nil
	}
	return broken(location, err)
}

// Close releases the file.
func (f *File) Close() error { return f.stored.Close() }

// Rows returns how many rows the file says it has, -1 where only reading tells.
func (f *File) Rows() int64 {
	if f.other != nil {
		return f.other.rows()
	}
	return f.reader.NumRows()
}

// batchRows is how many rows are read at a time, fewer of files with very many columns: batchValues are read at most, but
// leastRows at least.
const (
	batchRows   = 8192
	batchValues = 4 << 20
	leastRows   = 64
)

// rowsAtATime is how many rows of so many leaf columns are read at a time.
func rowsAtATime(leaves int) int64 {
	return int64(min(batchRows, max(leastRows, batchValues/max(1, leaves))))
}

// Batches reads the file's rows in order and hands them on; emit returns io.EOF to stop early. A batch is valid until emit
// returns.
func (f *File) Batches(ctx context.Context, emit func(arrow.RecordBatch) error) (err error) {
	g := guard{location: f.location}
	defer g.end(&err)
	emit = g.emit(emit)
	if f.other != nil {
		err := f.other.batches(ctx, emit)
		if errors.Is(err, io.EOF) {
			return nil
		}
		return wrapped(f.location, err)
	}
	if groups, ok := newGroupReader(f, f.all()); ok {
		return f.selectGroups(ctx, groups, Selection{}, func(b arrow.RecordBatch, _ int64) error { return emit(b) })
	}
	if wide(f.reader) {
		return f.wideBatches(ctx, emit)
	}
	reader, err := pqarrow.NewFileReader(f.reader,
		pqarrow.ArrowReadProperties{BatchSize: rowsAtATime(f.reader.MetaData().Schema.NumColumns())}, memory.DefaultAllocator)
	if err != nil {
		return broken(f.location, err)
	}
	records, err := reader.GetRecordReader(ctx, nil, nil)
	if err != nil {
		return broken(f.location, f.place(ctx, err))
	}
	defer records.Release()
	for records.Next() {
		if err := emit(records.RecordBatch()); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
	if err := records.Err(); err != nil && !errors.Is(err, io.EOF) {
		return broken(f.location, f.place(ctx, err))
	}
	return nil
}

// all lists the top-level columns.
func (f *File) all() []int {
	out := make([]int, len(f.Schema.Fields))
	for i := range out {
		out[i] = i
	}
	return out
}

// Layout is how a file is built.
type Layout struct {
	Location string
	// Format is the name of the file's format.
	Format    string
	Bytes     int64
	Rows      int64
	CreatedBy string
	Version   string
	Groups    []GroupLayout
	Columns   []ColumnLayout
	// Keys are the key-value metadata's keys with the length of each value in bytes.
	Keys map[string]int
}

// GroupLayout is one row group.
type GroupLayout struct {
	Rows, Bytes, RawBytes int64
}

// ColumnLayout is one leaf column over all row groups.
type ColumnLayout struct {
	// Path is the dotted path in the file's schema.
	Path string
	// ID is the field id, 0 where there is none.
	ID int
	// Type is the physical type.
	Type                  string
	Codecs, Encodings     []string
	Bytes, RawBytes       int64
	Values, Nulls         int64
	HasMinMax, Dictionary bool
	// Smallest and Largest are the extremes that the statistics of all row groups tell of, as text; empty where they do not.
	Smallest, Largest string
	// Pages counts the data pages, 0 where the file has no index of them; Bloom says that there are Bloom filters.
	Pages int64
	Bloom bool
}

// Layout describes how the file is built.
func (f *File) Layout() (_ Layout, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = broken(f.location, fmt.Errorf("%v", r))
		}
	}()
	if file, ok := f.other.(*orcFile); ok {
		return f.orcLayout(file)
	}
	if f.other != nil {
		return f.otherLayout()
	}
	footer := f.reader.MetaData()
	out := Layout{Location: f.location, Format: "Parquet", Bytes: f.size, Rows: footer.GetNumRows(), CreatedBy: footer.GetCreatedBy(),
		Version: footer.Version().String(), Keys: map[string]int{}}
	if kv := footer.KeyValueMetadata(); kv != nil {
		values := kv.Values()
		for i, key := range kv.Keys() {
			out.Keys[key] = len(values[i])
		}
	}
	var leaves []schema.Type
	f.Schema.Walk(func(_ string, field *schema.Field) {
		if !field.Type.Nested() {
			leaves = append(leaves, field.Type)
		}
	})
	bounds := make([]extremes, footer.Schema.NumColumns())
	for c := range footer.Schema.NumColumns() {
		column := footer.Schema.Column(c)
		out.Columns = append(out.Columns, ColumnLayout{Path: column.Path(), ID: max(0, int(column.SchemaNode().FieldID())),
			Type: strings.ToLower(column.PhysicalType().String())})
	}
	for g := range footer.NumRowGroups() {
		group := GroupLayout{Rows: footer.RowGroup(g).NumRows()}
		for c := range out.Columns {
			chunk, err := footer.RowGroup(g).ColumnChunk(c)
			if err != nil {
				return out, broken(f.location, err)
			}
			col := &out.Columns[c]
			col.Bytes += chunk.TotalCompressedSize()
			col.RawBytes += chunk.TotalUncompressedSize()
			col.Values += chunk.NumValues()
			col.Dictionary = col.Dictionary || chunk.HasDictionaryPage()
			group.Bytes += chunk.TotalCompressedSize()
			group.RawBytes += chunk.TotalUncompressedSize()
			col.Codecs = with(col.Codecs, codecName(chunk.Compression()))
			for _, stats := range chunk.EncodingStats() {
				col.Encodings = with(col.Encodings, encodingName(stats.Encoding.String()))
			}
			if len(chunk.EncodingStats()) == 0 {
				for _, e := range chunk.Encodings() {
					col.Encodings = with(col.Encodings, encodingName(e.String()))
				}
			}
			if stats, err := chunk.Statistics(); err == nil && stats != nil {
				col.Nulls += stats.NullCount()
				col.HasMinMax = col.HasMinMax || stats.HasMinMax()
				bounds[c].widen(footer.Schema.Column(c), stats)
			}
			col.Bloom = col.Bloom || chunk.BloomFilterOffset() > 0
			col.Pages += f.pages(g, c)
		}
		out.Groups = append(out.Groups, group)
	}
	for c := range out.Columns {
		if bounds[c].low != nil && c < len(leaves) {
			column := footer.Schema.Column(c)
			out.Columns[c].Smallest, out.Columns[c].Largest = boundText(column, leaves[c], bounds[c].low),
				boundText(column, leaves[c], bounds[c].high)
		}
	}
	return out, nil
}

// widen takes in the statistics of one column chunk.
func (e *extremes) widen(column *pqschema.Column, stats metadata.TypedStatistics) {
	if !stats.HasMinMax() {
		return
	}
	low, high := stats.EncodeMin(), stats.EncodeMax()
	if !fixedWidth(column, low) || !fixedWidth(column, high) {
		return
	}
	if e.low == nil || less(column, low, e.low) {
		e.low = bytes.Clone(low)
	}
	if e.high == nil || less(column, e.high, high) {
		e.high = bytes.Clone(high)
	}
}

// pages counts the data pages of a column chunk by the file's page index.
func (f *File) pages(group, column int) int64 {
	index, err := f.reader.GetPageIndexReader().RowGroup(group)
	if err != nil || index == nil {
		return 0
	}
	offsets, err := index.GetOffsetIndex(column)
	if err != nil || offsets == nil {
		return 0
	}
	return int64(len(offsets.GetPageLocations()))
}

// with adds a word to a list that has it once.
func with(list []string, word string) []string {
	for _, known := range list {
		if known == word {
			return list
		}
	}
	return append(list, word)
}
