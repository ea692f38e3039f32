package columnar

import (
	"bytes"
	"fmt"
	"math/rand"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// sorts of columns as they occur in files of readings.
var sorts = map[string]struct {
	kind schema.Kind
	add  func(array.Builder, *rand.Rand, int)
}{
	"ids": {schema.Long, func(b array.Builder, _ *rand.Rand, i int) { b.(*array.Int64Builder).Append(int64(i)) }},
	"codes": {schema.String, func(b array.Builder, r *rand.Rand, _ int) {
		b.(*array.StringBuilder).Append(fmt.Sprintf("OS-%04d", r.Intn(3000)))
	}},
	"notes": {schema.String, func(b array.Builder, r *rand.Rand, i int) {
		b.(*array.StringBuilder).Append(fmt.Sprint("hull ", r.Intn(1<<30), " ", i))
	}},
	"measures": {schema.Double, func(b array.Builder, r *rand.Rand, _ int) { b.(*array.Float64Builder).Append(r.Float64()) }},
	"levels": {schema.Double, func(b array.Builder, r *rand.Rand, _ int) {
		b.(*array.Float64Builder).Append(float64(r.Intn(1000)) / 100)
	}},
	"gaps": {schema.Long, func(b array.Builder, r *rand.Rand, i int) {
		if r.Intn(3) == 0 {
			b.AppendNull()
		} else {
			b.(*array.Int64Builder).Append(int64(r.Intn(1 << 20)))
		}
	}},
	"times": {schema.TimestampTz, func(b array.Builder, _ *rand.Rand, i int) {
		b.(*array.TimestampBuilder).Append(arrow.Timestamp(time.Date(2031, 5, 1, 0, 0, i, 0, time.UTC).UnixMicro()))
	}},
	"flags": {schema.Boolean, func(b array.Builder, r *rand.Rand, _ int) { b.(*array.BooleanBuilder).Append(r.Intn(2) == 0) }},
}

// columnOf is batches of one sort of column.
func columnOf(name string) (schema.Schema, []arrow.RecordBatch) {
	s := schema.Schema{Fields: []schema.Field{{Name: "c", Type: schema.Type{Kind: sorts[name].kind}}}}
	s.AssignIDs()
	random := rand.New(rand.NewSource(1))
	var out []arrow.RecordBatch
	for b := range 25 {
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for i := range 8192 {
			sorts[name].add(build.Field(0), random, b*8192+i)
		}
		out = append(out, build.NewRecordBatch())
	}
	return s, out
}

// BenchmarkReading reads a column of each sort, beside what writing it and the library's reader take.
func BenchmarkReading(b *testing.B) {
	for name := range sorts {
		s, batches := columnOf(name)
		var whole bytes.Buffer
		write := func() {
			whole.Reset()
			w, err := NewWriter(&whole, s, Options{Codec: "none", RowGroupRows: 1 << 20, RowGroupBytes: 64 << 20})
			if err != nil {
				b.Fatal(err)
			}
			for _, batch := range batches {
				if err := w.Write(b.Context(), batch); err != nil {
					b.Fatal(err)
				}
			}
			if _, err := w.Close(); err != nil {
				b.Fatal(err)
			}
		}
		write()
		store := storage.NewMemory()
		if err := storage.WriteAll(b.Context(), store, "mem://x/c.parquet", whole.Bytes(), storage.Creation{}); err != nil {
			b.Fatal(err)
		}
		b.Run(name+"/write", func(b *testing.B) {
			for b.Loop() {
				write()
			}
		})
		b.Run(name+"/read", func(b *testing.B) {
			for b.Loop() {
				f, err := Open(b.Context(), store, "mem://x/c.parquet")
				if err != nil {
					b.Fatal(err)
				}
				if err := f.Batches(b.Context(), func(arrow.RecordBatch) error { return nil }); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(name+"/library", func(b *testing.B) {
			for b.Loop() {
				r, err := file.NewParquetReader(bytes.NewReader(whole.Bytes()))
				if err != nil {
					b.Fatal(err)
				}
				reader, err := pqarrow.NewFileReader(r, pqarrow.ArrowReadProperties{BatchSize: 8192}, memory.DefaultAllocator)
				if err != nil {
					b.Fatal(err)
				}
				records, err := reader.GetRecordReader(b.Context(), nil, nil)
				if err != nil {
					b.Fatal(err)
				}
				for records.Next() {
				}
				records.Release()
			}
		})
	}
}
