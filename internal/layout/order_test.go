package layout

import (
	"context"
	"fmt"
	"math"
	"math/rand"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// nestedSample has columns at the top and one within a struct.
func nestedSample() schema.Schema {
	pos := schema.Field{Name: "pos", Type: schema.Type{Kind: schema.Struct,
		Fields: []schema.Field{column("depth", schema.Double), column("area", schema.String)}}}
	s := schema.Schema{Fields: []schema.Field{column("id", schema.Long), pos, column("note", schema.String)}}
	s.AssignIDs()
	return s
}

func TestParseSort(t *testing.T) {
	s := nestedSample()
	for text, want := range map[string]string{
		"": "", "id": "id", "id desc, pos.area nulls last": "id desc, pos.area nulls last", "ID ASC NULLS LAST": "id nulls last",
		"note desc nulls last": "note desc", "id desc nulls first": "id desc nulls first",
	} {
		if got, err := ParseSort(text, s); err != nil || got.String() != want {
			t.Errorf("%q: %q, %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{"zz": "no column", "pos": "which is a struct", "id,id desc": "twice", "pos.zz": "no column",
		"id.x": "no part"} {
		if _, err := ParseSort(text, s); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// routed writes random rows and returns the files with the rows of each, as texts.
func routed(t *testing.T, seed int64, spec Spec, o Options) (files []DataFile, rows [][]string, written []string) {
	t.Helper()
	random := rand.New(rand.NewSource(seed))
	s := nestedSample()
	root := t.TempDir()
	r := NewRouter(s, spec, o, filesIn(root))
	for range 15 {
		build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for range random.Intn(400) {
			build.Field(0).(*array.Int64Builder).Append(random.Int63n(50))
			pos := build.Field(1).(*array.StructBuilder)
			if random.Intn(5) == 0 {
				pos.AppendNull()
			} else {
				pos.Append(true)
				pos.FieldBuilder(0).(*array.Float64Builder).Append([]float64{1.5, -2, math.NaN(), math.Inf(1), 0}[random.Intn(5)])
				if random.Intn(6) == 0 {
					pos.FieldBuilder(1).AppendNull()
				} else {
					pos.FieldBuilder(1).(*array.StringBuilder).Append(fmt.Sprint("area ", random.Intn(90)))
				}
			}
			build.Field(2).(*array.StringBuilder).Append(fmt.Sprint(random.Intn(1000)))
		}
		b := build.NewRecordBatch()
		written = append(written, rowTexts(b)...)
		if err := r.Write(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		opened, err := columnar.Open(context.Background(), storage.Disk{}, f.URI)
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		sorter := newSorter(s, o.Sort)
		var last keys
		lastRow := -1
		err = opened.Batches(context.Background(), func(b arrow.RecordBatch) error {
			k := sorter.keys(b)
			for row := range int(b.NumRows()) {
				if lastRow >= 0 && sorter.compare(last, lastRow, k, row) > 0 {
					return fmt.Errorf("%s: row %d comes too late", f.URI, row)
				}
				last, lastRow = k, row
			}
			list = append(list, rowTexts(b)...)
			return nil
		})
		opened.Close()
		if err != nil {
			t.Fatal(err)
		}
		rows = append(rows, list)
	}
	return files, rows, written
}

func rowTexts(b arrow.RecordBatch) []string {
	out := make([]string, b.NumRows())
	for row := range out {
		for c := range int(b.NumCols()) {
			out[row] += fmt.Sprint(b.Column(c).GetOneForMarshal(row)) + "|"
		}
	}
	return out
}

// TestSortedAndSpilled writes rows in order and in many partitions, with so little memory that they wait on the disk.
func TestSortedAndSpilled(t *testing.T) {
	s := nestedSample()
	tests := []struct{ spec, sort string }{
		{"", "id"}, {"pos.area", ""}, {"", "pos.depth desc nulls first, note"}, {"pos.area", "note desc"},
		{"bucket(7,id),pos.area", "pos.depth nulls last,id desc"}, {"truncate(6,pos.area)", "id"},
	}
	if testing.Short() {
		tests = tests[:2]
	}
	for i, test := range tests {
		spec := Spec(nil)
		if test.spec != "" {
			var err error
			if spec, err = ParseSpec(test.spec, s); err != nil {
				t.Fatal(err)
			}
		}
		order, err := ParseSort(test.sort, s)
		if err != nil {
			t.Fatal(err)
		}
		o := DefaultOptions
		o.Sort, o.BudgetBytes, o.OpenFiles, o.TempDir = order, 16<<10, 3, t.TempDir()
		files, rows, written := routed(t, int64(i), spec, o)
		got := slices.Concat(rows...)
		slices.Sort(got)
		slices.Sort(written)
		if !slices.Equal(got, written) {
			t.Errorf("%+v: %d rows came back of %d", test, len(got), len(written))
		}
		if left, err := os.ReadDir(o.TempDir); err != nil || len(left) > 0 {
			t.Errorf("%v is left, %v", left, err)
		}
		folders := map[string]bool{}
		for _, f := range files {
			// Rows that spilled from the beginning lie in one file of each partition.
			if test.sort != "" && folders[f.Folder] {
				t.Errorf("%+v: %s has more than one file", test, f.Folder)
			}
			folders[f.Folder] = true
		}
		// The same rows in memory give the same files.
		o.BudgetBytes = 1 << 30
		if _, again, _ := routed(t, int64(i), spec, o); test.sort != "" {
			a, b := rows, again
			slices.SortFunc(a, slices.Compare[[]string])
			slices.SortFunc(b, slices.Compare[[]string])
			if fmt.Sprint(a) != fmt.Sprint(b) {
				t.Errorf("%+v: with less memory the rows come in another order", test)
			}
		}
	}
}
