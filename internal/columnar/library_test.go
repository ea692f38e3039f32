package columnar

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/metadata"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// randomBatch makes up to n rows of a schema.
func randomBatch(random *rand.Rand, s schema.Schema, n int) arrow.RecordBatch {
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for range random.Intn(n + 1) {
		for c, f := range s.Fields {
			appendRandom(random, build.Field(c), f)
		}
	}
	return build.NewRecordBatch()
}

// Files that the library's own writer makes, in any of its ways, are read as what they hold.
func TestFilesOfTheLibrary(t *testing.T) {
	codecs := []compress.Compression{compress.Codecs.Uncompressed, compress.Codecs.Snappy, compress.Codecs.Gzip, compress.Codecs.Brotli,
		compress.Codecs.Zstd, compress.Codecs.Lz4Raw}
	for seed := range int64(60) {
		random := rand.New(rand.NewSource(seed))
		var s schema.Schema
		for i := range 1 + random.Intn(4) {
			s.Fields = append(s.Fields, randomField(random, fmt.Sprint("c", i), 2))
		}
		s.AssignIDs()
		batch := randomBatch(random, s, 80)
		o := []parquet.WriterProperty{parquet.WithCompression(codecs[seed%6]), parquet.WithDictionaryDefault(random.Intn(2) == 0),
			parquet.WithMaxRowGroupLength(int64(1 + random.Intn(60))),
			parquet.WithDataPageVersion([]parquet.DataPageVersion{parquet.DataPageV1, parquet.DataPageV2}[random.Intn(2)]),
			parquet.WithVersion([]parquet.Version{parquet.V1_0, parquet.V2_LATEST}[random.Intn(2)]),
			parquet.WithStoreDecimalAsInteger(random.Intn(2) == 0), parquet.WithDataPageSize(int64(64 << random.Intn(6)))}
		path := filepath.Join(t.TempDir(), "x.parquet")
		disk, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		// The first version has no logical types of its own; the schema of the rows is kept beside it.
		w, err := pqarrow.NewFileWriter(batch.Schema(), disk, parquet.NewWriterProperties(o...),
			pqarrow.NewArrowWriterProperties(pqarrow.WithStoreSchema()))
		if err != nil {
			t.Fatal(err)
		}
		if err := w.WriteBuffered(batch); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		if got, want := jsonOf(t, path), string(rowtext.JSON(nil, batch)); got != want {
			t.Fatalf("seed %d, %s:\n%s\nwant\n%s", seed, s.Arrow(), got, want)
		}
	}
}

// Every encoding that can be forced on a column is the one that is written, and reads back equal under every codec, nulls and
// pages included.
func TestForcedEncodings(t *testing.T) {
	for _, k := range []schema.Kind{schema.Int, schema.Long, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz, schema.Float,
		schema.Double, schema.String, schema.Binary} {
		f := schema.Field{Name: "v", Type: schema.Type{Kind: k}}
		s := schema.Schema{Fields: []schema.Field{f}}
		s.AssignIDs()
		encodings := EncodingsOf(f.Type)
		if len(encodings) < 3 {
			t.Errorf("%s has the encodings %v", k, encodings)
		}
		for i, encoding := range encodings {
			random := rand.New(rand.NewSource(int64(i)))
			batches := []arrow.RecordBatch{randomBatch(random, s, 900), randomBatch(random, s, 1), randomBatch(random, s, 400)}
			codec := Codec(CodecNames()[i%len(CodecNames())])
			var out bytes.Buffer
			w, err := NewWriter(&out, s, Options{Codec: codec, RowGroupRows: 500, RowGroupBytes: 1 << 20, force: encoding})
			if err != nil {
				t.Fatal(err)
			}
			var want []byte
			for _, b := range batches {
				if err := w.Write(context.Background(), b); err != nil {
					t.Fatal(err)
				}
				want = rowtext.JSON(want, b)
			}
			if _, err := w.Close(); err != nil {
				t.Fatal(err)
			}
			path := filepath.Join(t.TempDir(), "x.parquet")
			if err := os.WriteFile(path, out.Bytes(), 0o644); err != nil {
				t.Fatal(err)
			}
			if got := jsonOf(t, path); got != string(want) {
				t.Errorf("%s as %s: %d bytes came back of %d", k, encoding, len(got), len(want))
			}
			r, err := file.NewParquetReader(bytes.NewReader(out.Bytes()))
			if err != nil {
				t.Fatal(err)
			}
			if used := encodingsUsed(t, r.MetaData()); !slices.Contains(used, encoding) || encoding != "rle-dictionary" &&
				slices.Contains(used, "rle-dictionary") {
				t.Errorf("%s as %s was written as %v", k, encoding, used)
			}
		}
	}
}

// encodingsUsed lists the encodings of the data pages of a file.
func encodingsUsed(t *testing.T, footer *metadata.FileMetaData) (used []string) {
	t.Helper()
	for g := range footer.NumRowGroups() {
		chunk, err := footer.RowGroup(g).ColumnChunk(0)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range chunk.Encodings() {
			used = with(used, encodingName(strings.ToLower(e.String())))
		}
	}
	return used
}

// The page index tells for each page the range of its values and how many are null, and where it lies.
func TestPageIndex(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "note", Type: schema.Type{Kind: schema.String}}}}
	s.AssignIDs()
	const rows = 90_000
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range rows {
		build.Field(0).(*array.Int64Builder).Append(int64(i))
		if i%3 == 0 {
			build.Field(1).AppendNull()
		} else {
			build.Field(1).(*array.StringBuilder).Append(fmt.Sprintf("n%06d", rows-i))
		}
	}
	var out bytes.Buffer
	w, err := NewWriter(&out, s, Options{Codec: "snappy", RowGroupRows: 50_000, RowGroupBytes: 64 << 20})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Write(context.Background(), build.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	r, err := file.NewParquetReader(bytes.NewReader(out.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	first := int64(0)
	for g := range r.NumRowGroups() {
		index, err := r.GetPageIndexReader().RowGroup(g)
		if err != nil {
			t.Fatal(err)
		}
		columns, err := index.GetColumnIndex(0)
		if err != nil {
			t.Fatal(err)
		}
		ids := columns.(*metadata.TypedColumnIndex[int64])
		offsets, err := index.GetOffsetIndex(0)
		if err != nil {
			t.Fatal(err)
		}
		pages := offsets.GetPageLocations()
		if len(pages) < 2 || len(ids.MinValues()) != len(pages) {
			t.Fatalf("%d pages, %d ranges", len(pages), len(ids.MinValues()))
		}
		for p, page := range pages {
			end := r.RowGroup(g).NumRows()
			if p+1 < len(pages) {
				end = pages[p+1].FirstRowIndex
			}
			if low, high := ids.MinValues()[p], ids.MaxValues()[p]; low != first+page.FirstRowIndex || high != first+end-1 {
				t.Errorf("page %d of row group %d holds %d to %d, the index says %d to %d", p, g, first+page.FirstRowIndex, first+end-1,
					low, high)
			}
		}
		notes, err := index.GetColumnIndex(1)
		if err != nil {
			t.Fatal(err)
		}
		nulls := int64(0)
		for _, n := range notes.GetNullCounts() {
			nulls += n
		}
		if want := (r.RowGroup(g).NumRows() + 2) / 3; nulls < want-1 || nulls > want {
			t.Errorf("row group %d: the index counts %d nulls, there are about %d", g, nulls, want)
		}
		first += r.RowGroup(g).NumRows()
	}
}
