package columnar

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"os"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// gauge is a column of each sort that encodings are tried on: n rows with levels that repeat, in an order or in none.
func gauge(random *rand.Rand, n int, sorted bool) (schema.Schema, arrow.RecordBatch) {
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "level", Type: schema.Type{Kind: schema.Double}}, {Name: "station", Type: schema.Type{Kind: schema.String}}}}
	s.AssignIDs()
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range n {
		id := int64(random.Intn(n))
		if sorted {
			id = int64(i)
		}
		b.Field(0).(*array.Int64Builder).Append(id)
		b.Field(1).(*array.Float64Builder).Append(float64(random.Intn(500)) / 100)
		if random.Intn(10) == 0 {
			b.Field(2).AppendNull()
		} else {
			b.Field(2).(*array.StringBuilder).Append(fmt.Sprintf("OS-%04d", random.Intn(60)))
		}
	}
	return s, b.NewRecordBatch()
}

// TestTrialsMeasureWhatIsWritten holds the size of a trial against that of a file with the same options.
func TestTrialsMeasureWhatIsWritten(t *testing.T) {
	s, batch := gauge(rand.New(rand.NewSource(1)), 4000, true)
	for format, codecs := range map[Format][]Codec{Parquet: {"zstd:1", "zstd:9", "snappy", "gzip", "lz4", "brotli", "none"},
		ORC: {"zstd", "snappy", "none"}, Arrow: {"zstd", "lz4", "none"}, Avro: {"zstd", "none"}} {
		sizes := map[Codec]int64{}
		for _, codec := range codecs {
			trial, err := Try(t.Context(), s, []arrow.RecordBatch{batch, batch}, format, codec, "", 2)
			if err != nil {
				t.Fatal(err)
			}
			o := DefaultOptions
			o.Format, o.Codec = format, codec
			var out bytes.Buffer
			w, err := NewFile(&out, s, o)
			if err != nil {
				t.Fatal(err)
			}
			for range 2 {
				if err := w.Write(t.Context(), batch); err != nil {
					t.Fatal(err)
				}
			}
			if _, err := w.Close(); err != nil {
				t.Fatal(err)
			}
			if trial.Bytes != int64(out.Len()) || trial.Codec != codec || trial.WriteSeconds <= 0 || trial.ReadSeconds <= 0 {
				t.Errorf("%s, %s: %+v, and the file has %d bytes", format, codec, trial, out.Len())
			}
			sizes[codec] = trial.Bytes
		}
		for codec, size := range sizes {
			if codec != "none" && size >= sizes["none"] {
				t.Errorf("%s: %s takes %d bytes, no codec %d", format, codec, size, sizes["none"])
			}
		}
	}
}

// TestForcedEncodingsAreWritten tries every encoding that a type can have, and looks for it in the file.
func TestForcedEncodingsAreWritten(t *testing.T) {
	s, batch := gauge(rand.New(rand.NewSource(2)), 3000, false)
	for i, f := range s.Fields {
		one := schema.Schema{Fields: []schema.Field{f}}
		columns := array.NewRecordBatch(one.Arrow(), []arrow.Array{batch.Column(i)}, batch.NumRows())
		for _, encoding := range EncodingsOf(f.Type) {
			trial, err := Try(t.Context(), one, []arrow.RecordBatch{columns}, Parquet, "none", encoding, 1)
			if err != nil || trial.Encoding != encoding {
				t.Fatalf("%s, %s: %+v, %v", f.Name, encoding, trial, err)
			}
			o := DefaultOptions
			o.Format, o.Codec, o.force = Parquet, "none", encoding
			path, _ := write(t, one, o, columns)
			file, err := Open(context.Background(), storage.Disk{}, path)
			if err != nil {
				t.Fatal(err)
			}
			layout, err := file.Layout()
			file.Close()
			if err != nil {
				t.Fatal(err)
			}
			if !slices.Contains(layout.Columns[0].Encodings, encoding) {
				t.Errorf("%s, %s: the file has %v", f.Name, encoding, layout.Columns[0].Encodings)
			}
		}
	}
	for _, kind := range []schema.Kind{schema.Boolean, schema.UUID, schema.Struct} {
		if got := EncodingsOf(schema.Type{Kind: kind}); len(got) > 0 {
			t.Errorf("%s can be written in %v", kind, got)
		}
	}
}

// TestScannedBytes holds what a filter has to read, by statistics, against the row groups that hold the value.
func TestScannedBytes(t *testing.T) {
	const group = 500
	for _, sorted := range []bool{true, false} {
		s, batch := gauge(rand.New(rand.NewSource(3)), 5000, sorted)
		o := DefaultOptions
		o.Format, o.RowGroupRows = Parquet, group
		path, summary := write(t, s, o, batch)
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		ranges, err := RangesOf(data, s, "id")
		if err != nil || len(ranges.Bytes) != 10 {
			t.Fatalf("%d row groups, %v", len(ranges.Bytes), err)
		}
		var all int64
		for _, n := range ranges.Bytes {
			all += n
		}
		if all >= summary.Bytes || all < summary.Bytes/2 {
			t.Errorf("row groups have %d bytes of %d", all, summary.Bytes)
		}
		value := ranges.Middle()
		if value == nil {
			t.Fatal("no value occurs")
		}
		switch scanned := ranges.Scanned(value); {
		case sorted && scanned != ranges.Bytes[5]:
			t.Errorf("in order, %d bytes of %d are read for one value", scanned, all)
		case !sorted && scanned < all/5:
			t.Errorf("in no order, only %d bytes of %d are read for one value", scanned, all)
		}
		if beyond := ranges.Scanned([]byte{0, 0, 0, 0, 0, 0, 0, 1}); beyond != 0 {
			t.Errorf("%d bytes are read for a value beyond all", beyond)
		}
		if _, err := RangesOf(data, s, "nothing"); err == nil {
			t.Error("a column that is not there has ranges")
		}
	}
}
