package columnar

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/metadata"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// TestEveryFormatReadsBackEqual writes random rows of random schemas in each format with a schema of its own, and reads them back.
func TestEveryFormatReadsBackEqual(t *testing.T) {
	for seed := range int64(40) {
		random := rand.New(rand.NewSource(seed))
		s := schema.Schema{}
		for i := range 1 + random.Intn(4) {
			s.Fields = append(s.Fields, randomField(random, fmt.Sprint("c", i), 2))
		}
		s.AssignIDs()
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for range random.Intn(50) {
			for c, f := range s.Fields {
				appendRandom(random, build.Field(c), f)
			}
		}
		batch := build.NewRecordBatch()
		want := string(rowtext.JSON(nil, batch))
		for _, format := range []Format{Parquet, ORC, Arrow, Avro} {
			path := filepath.Join(t.TempDir(), "x"+string(format))
			file, err := os.Create(path)
			if err != nil {
				t.Fatal(err)
			}
			w, err := NewFile(file, s, Options{Format: format, Codec: "zstd", RowGroupRows: 20, RowGroupBytes: 1 << 20})
			if err != nil {
				t.Fatal(err)
			}
			if err := w.Write(context.Background(), batch); err != nil {
				t.Fatalf("seed %d, %s: %v", seed, format, err)
			}
			summary, err := w.Close()
			if err != nil {
				t.Fatal(err)
			}
			if err := file.Close(); err != nil {
				t.Fatal(err)
			}
			if info, err := os.Stat(path); err != nil || info.Size() != summary.Bytes || summary.Rows != batch.NumRows() {
				t.Errorf("%s: %+v", format, summary)
			}
			if got := jsonOf(t, path); got != want {
				t.Fatalf("seed %d, %s, %s:\n%s\nwant\n%s", seed, format, s.Arrow(), got, want)
			}
		}
	}
}

// jsonOf reads a file and writes its rows as JSON lines, with uuids of any reader in one form.
func jsonOf(t *testing.T, path string) string {
	t.Helper()
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var out []byte
	err = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
		out = rowtext.JSON(out, b)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

func TestUnionsAndNamesInAvro(t *testing.T) {
	if got := avroName("wave height (m)"); got != "wave_height__m_" {
		t.Error(got)
	}
	if got := avroName("2nd"); got != "_2nd" {
		t.Error(got)
	}
	if _, err := NewFile(&bytes.Buffer{}, everything(), Options{Format: Avro, Codec: "brotli"}); err == nil ||
		!strings.Contains(err.Error(), "take zstd, snappy, gzip or none") {
		t.Errorf("%v", err)
	}
}

func TestFormatOf(t *testing.T) {
	for ending, want := range map[string]Format{".parquet": Parquet, ".PARQUET": Parquet, ".feather": Arrow, ".jsonl": JSONLines,
		".tab": TSV} {
		if got, ok := FormatOf(ending); !ok || got != want {
			t.Errorf("%s: %s", ending, got)
		}
	}
	if _, ok := FormatOf(".xlsx"); ok {
		t.Error(".xlsx is taken for a format")
	}
}

func TestParseCodecs(t *testing.T) {
	all, single, err := ParseCodecs("zstd:3, note=zstd:9,flag=none")
	if err != nil || all != "zstd:3" || single["note"] != "zstd:9" || single["flag"] != "none" || len(single) != 2 {
		t.Errorf("%s, %v, %v", all, single, err)
	}
	if all, single, err := ParseCodecs("note=gzip"); err != nil || all != DefaultCodec || single["note"] != "gzip" {
		t.Errorf("%s, %v, %v", all, single, err)
	}
	for text, want := range map[string]Codec{"lz4_raw": "lz4", "ZSTD:9": "zstd:9", "zlib": "gzip", "Deflate:9": "gzip:9",
		"uncompressed": "none"} {
		if got, err := ParseCodec(text); err != nil || got != want {
			t.Errorf("%s is %s, %v, want %s", text, got, err, want)
		}
	}
	for text, want := range map[string]string{"lzo": "is not a codec", "snappy:3": "has no levels", "zstd:99": "it has 1 to 22",
		"zstd,gzip": "names no column", "zstd,a=x": "is not a codec"} {
		if _, _, err := ParseCodecs(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
	s := everything()
	o := Options{Codecs: map[string]Codec{"nope": "zstd"}}
	if _, err := o.For(s); err == nil || !strings.Contains(err.Error(), `--codec names a column "nope"`) {
		t.Errorf("%v", err)
	}
}

// TestBloomFilters asks the library whether values that were written, and others, may be in a file.
func TestBloomFilters(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "code", Type: schema.Type{Kind: schema.String}}, {Name: "none", Type: schema.Type{Kind: schema.Long}}}}
	s.AssignIDs()
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range 5000 {
		build.Field(0).(*array.Int64Builder).Append(int64(2 * i))
		build.Field(1).(*array.StringBuilder).Append(fmt.Sprint("code ", i))
		build.Field(2).AppendNull()
	}
	var out bytes.Buffer
	o := DefaultOptions
	o.Bloom = []string{"id", "code"}
	w, err := NewWriter(&out, s, o)
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
	defer r.Close()
	group, err := r.GetBloomFilterReader().RowGroup(0)
	if err != nil {
		t.Fatal(err)
	}
	ids, err := group.GetColumnBloomFilter(0)
	if err != nil || ids == nil {
		t.Fatal(err)
	}
	codes, err := group.GetColumnBloomFilter(1)
	if err != nil || codes == nil {
		t.Fatal(err)
	}
	if none, err := group.GetColumnBloomFilter(2); err != nil || none != nil {
		t.Errorf("a column that was not named has a filter: %v", err)
	}
	wrong := 0
	for i := range 5000 {
		if !ids.CheckHash(metadata.GetHash(ids.Hasher(), int64(2*i))) ||
			!codes.CheckHash(metadata.GetHash(codes.Hasher(), parquet.ByteArray(fmt.Sprint("code ", i)))) {
			t.Fatalf("value %d is not found", i)
		}
		if ids.CheckHash(metadata.GetHash(ids.Hasher(), int64(2*i+1))) {
			wrong++
		}
	}
	if wrong > 150 {
		t.Errorf("%d of 5000 values that are not there may be", wrong)
	}
}
