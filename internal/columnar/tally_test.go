package columnar

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// The counts and bounds of any file are those that Parquet's own statistics lead to.
func TestCountsAgreeAcrossFormats(t *testing.T) {
	for seed := range int64(40) {
		random := rand.New(rand.NewSource(seed))
		var s schema.Schema
		for i := range 1 + random.Intn(6) {
			s.Fields = append(s.Fields, randomField(random, fmt.Sprint("c", i), 2))
		}
		s.AssignIDs()
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		metrics := map[Format]map[int]*Metrics{}
		files := map[Format]FileWriter{}
		for _, format := range []Format{Parquet, ORC, Avro} {
			var err error
			if files[format], err = NewFile(&bytes.Buffer{}, s,
				Options{Format: format, Codec: "none", RowGroupRows: 30, RowGroupBytes: 1 << 20, Counts: format != Parquet}); err != nil {
				t.Fatal(err)
			}
		}
		for range 3 {
			for range random.Intn(30) {
				for c, f := range s.Fields {
					appendRandom(random, build.Field(c), f)
				}
			}
			batch := build.NewRecordBatch()
			for format, w := range files {
				if err := w.Write(context.Background(), batch); err != nil {
					t.Fatalf("seed %d, %s: %v", seed, format, err)
				}
			}
		}
		for format, w := range files {
			summary, err := w.Close()
			if err != nil {
				t.Fatal(err)
			}
			metrics[format] = summary.Columns
		}
		listed := map[int]bool{}
		for _, leaf := range newTally(s).leaves {
			listed[leaf.id] = leaf.listed
		}
		for id, want := range metrics[Parquet] {
			for _, format := range []Format{ORC, Avro} {
				got := metrics[format][id]
				if got == nil {
					t.Fatalf("seed %d, %s: nothing of column %d", seed, format, id)
				}
				// Parquet counts a list without elements as a value; it is none.
				counted := listed[id] || got.Values == want.Values && got.Nulls == want.Nulls
				if !counted || got.NaNs != want.NaNs || got.Floating != want.Floating || !bytes.Equal(got.Lower, want.Lower) ||
					!bytes.Equal(got.Upper, want.Upper) {
					t.Errorf("seed %d, %s, column %d of %s:\n%+v, want\n%+v", seed, format, id, s.Arrow(), *got, *want)
				}
			}
		}
	}
}
