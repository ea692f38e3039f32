package layout

import (
	"context"
	"errors"
	"os"
	"sync"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// device is where files of a test lie: it has room for so many bytes, and for so many files.
type device struct {
	lock         sync.Mutex
	room, files  int
	open, closed int
}

var errNoFile = errors.New("no more files")

func (d *device) create(_ context.Context, folder string) (func() (storage.Writer, error), string, error) {
	return func() (storage.Writer, error) {
		d.lock.Lock()
		defer d.lock.Unlock()
		if d.files == 0 {
			return nil, errNoFile
		}
		d.files--
		d.open++
		return &deviceFile{d}, nil
	}, folder, nil
}

type deviceFile struct{ *device }

func (f *deviceFile) Write(p []byte) (int, error) {
	f.lock.Lock()
	defer f.lock.Unlock()
	if f.room -= len(p); f.room < 0 {
		return 0, errFull
	}
	return len(p), nil
}

func (f *deviceFile) Commit() error {
	f.lock.Lock()
	defer f.lock.Unlock()
	f.closed++
	return nil
}

func (f *deviceFile) Abort() error { return f.Commit() }

// A disk that is full, or takes no more files, ends the writing with its error wherever it happens, and no file stays open, nor
// any temporary one.
func TestFullDisksAreTold(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{column("area", schema.Long), column("depth", schema.Double)}}
	s.AssignIDs()
	batch := func(first int) arrow.RecordBatch {
		b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
		for i := range 500 {
			b.Field(0).(*array.Int64Builder).Append(int64((first + i) % 7))
			b.Field(1).(*array.Float64Builder).Append(float64(first*i) / 3)
		}
		return b.NewRecordBatch()
	}
	for name, c := range map[string]struct {
		partition string
		sort      Sort
		format    columnar.Format
		open      int
	}{
		"one file":             {"", nil, columnar.Parquet, 4},
		"sorted":               {"", Sort{{Column: "depth"}}, columnar.Parquet, 4},
		"partitions":           {"area", nil, columnar.Parquet, 8},
		"few files at a time":  {"area", nil, columnar.Parquet, 2},
		"sorted partitions":    {"area", Sort{{Column: "depth", Descending: true}}, columnar.Parquet, 2},
		"partitions of ORC":    {"area", nil, columnar.ORC, 3},
		"partitions of Avro":   {"area", nil, columnar.Avro, 3},
		"partitions of text":   {"area", nil, columnar.CSV, 3},
		"partitions of Arrow":  {"area", nil, columnar.Arrow, 3},
		"a file of JSON lines": {"", nil, columnar.JSONLines, 3},
	} {
		var spec Spec
		if c.partition != "" {
			var err error
			if spec, err = ParseSpec(c.partition, s); err != nil {
				t.Fatal(err)
			}
		}
		write := func(d *device, dir string) error {
			o := DefaultOptions
			o.Sort, o.OpenFiles, o.BudgetBytes, o.FileBytes, o.TempDir = c.sort, c.open, 8<<10, 16<<10, dir
			o.Columnar.Format = c.format
			r := NewRouter(s, spec, o, d.create)
			defer r.Abandon()
			for i := range 8 {
				if err := r.Write(t.Context(), batch(i*500)); err != nil {
					return err
				}
			}
			_, err := r.Close(t.Context())
			return err
		}
		whole := &device{room: 1 << 30, files: 1000}
		if err := write(whole, t.TempDir()); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		needed, files := 1<<30-whole.room, 1000-whole.files
		for step := range 12 {
			dir := t.TempDir()
			d := &device{room: needed * step / 12, files: 1000}
			if err := write(d, dir); !errors.Is(err, errFull) {
				t.Errorf("%s, room for %d of %d bytes: %v", name, d.room, needed, err)
			}
			checkClosed(t, name, d, dir)
		}
		for n := range files {
			dir := t.TempDir()
			d := &device{room: 1 << 30, files: n}
			if err := write(d, dir); !errors.Is(err, errNoFile) {
				t.Errorf("%s, %d of %d files: %v", name, n, files, err)
			}
			checkClosed(t, name, d, dir)
		}
	}
}

func checkClosed(t *testing.T, name string, d *device, dir string) {
	t.Helper()
	left, err := os.ReadDir(dir)
	if err != nil || len(left) > 0 {
		t.Errorf("%s: %d temporary files are left, %v", name, len(left), err)
	}
	if d.open != d.closed {
		t.Errorf("%s: %d files were opened, %d closed", name, d.open, d.closed)
	}
}
