package layout

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// memoryFile is a file that is kept in memory.
type memoryFile struct{ *bytes.Buffer }

func (memoryFile) Commit() error { return nil }

func (memoryFile) Abort() error { return nil }

// TestFilesEndNearTheirSize holds files against the size that they are to have, whatever the rows wait for.
func TestFilesEndNearTheirSize(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{column("id", schema.Long), column("area", schema.String), column("level", schema.Double)}}
	s.AssignIDs()
	random := rand.New(rand.NewSource(1))
	for _, test := range []struct{ partition, sort string }{{"", ""}, {"area", ""}, {"", "level"}, {"area", "level desc"}} {
		for _, size := range []int64{128 << 10, 512 << 10} {
			options := DefaultOptions
			options.FileBytes = size
			options.TempDir = t.TempDir()
			options.Columnar.Codec = "snappy"
			var spec Spec
			var err error
			if test.partition != "" {
				if spec, err = ParseSpec(test.partition, s); err != nil {
					t.Fatal(err)
				}
			}
			if options.Sort, err = ParseSort(test.sort, s); err != nil {
				t.Fatal(err)
			}
			n := 0
			r := NewRouter(s, spec, options, func(_ context.Context, folder string) (func() (storage.Writer, error), string, error) {
				n++
				return func() (storage.Writer, error) { return memoryFile{&bytes.Buffer{}}, nil }, fmt.Sprintf("%s/%d", folder, n), nil
			})
			const rows = 200_000
			for from := 0; from < rows; from += 20_000 {
				build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
				for i := from; i < from+20_000; i++ {
					build.Field(0).(*array.Int64Builder).Append(int64(random.Uint64()))
					build.Field(1).(*array.StringBuilder).Append([]string{"Cairn Bay", "The Narrows", "Marrow Deep"}[i%3])
					build.Field(2).(*array.Float64Builder).Append(random.Float64())
				}
				if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
					t.Fatal(err)
				}
			}
			files, err := r.Close(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			small, written := 0, int64(0)
			for _, f := range files {
				written += f.Summary.Rows
				if f.Summary.Bytes > size*13/10 {
					t.Errorf("%+v: a file has %d bytes, %d are the size", test, f.Summary.Bytes, size)
				}
				if f.Summary.Bytes < size/2 {
					small++
				}
			}
			if written != rows || small > 3 {
				t.Errorf("%+v, %d bytes: %d rows, %d of %d files are small", test, size, written, small, len(files))
			}
		}
	}
}
