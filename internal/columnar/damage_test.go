package columnar

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet/file"

	"trevak/internal/schema"
	"trevak/internal/storage"
)

// groups writes a Parquet file of two row groups and three columns, and returns its bytes.
func groups(t *testing.T) []byte {
	t.Helper()
	return written(t, Options{Codec: "zstd", RowGroupRows: 1000, RowGroupBytes: 1 << 20})
}

// written returns the bytes of a file of three columns.
func written(t *testing.T, o Options) []byte {
	t.Helper()
	s := schema.Schema{Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Long}},
		{Name: "note", Type: schema.Type{Kind: schema.String}},
		{Name: "pos", Type: schema.Type{Kind: schema.Struct,
			Fields: []schema.Field{{Name: "lat", Type: schema.Type{Kind: schema.Double}}}}}}}
	s.AssignIDs()
	b := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	for i := range 2000 {
		b.Field(0).(*array.Int64Builder).Append(int64(i * i))
		b.Field(1).(*array.StringBuilder).Append(fmt.Sprintf("note %x", i*7919))
		b.Field(2).(*array.StructBuilder).Append(true)
		b.Field(2).(*array.StructBuilder).FieldBuilder(0).(*array.Float64Builder).Append(float64(i) / 7)
	}
	var out bytes.Buffer
	w, err := NewFile(&out, s, o)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Write(context.Background(), b.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestDamageIsPlaced(t *testing.T) {
	whole := groups(t)
	r, err := file.NewParquetReader(bytes.NewReader(whole))
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "x.parquet")
	for group := range 2 {
		for column, name := range []string{"id", "note", "pos.lat"} {
			chunk, err := r.MetaData().RowGroup(group).ColumnChunk(column)
			if err != nil {
				t.Fatal(err)
			}
			damaged := bytes.Clone(whole)
			// What is compressed follows the header of the first page.
			from := chunk.DataPageOffset() + 60
			for at := from; at < from+40; at++ {
				damaged[at] ^= 0x5a
			}
			if err := os.WriteFile(path, damaged, 0o644); err != nil {
				t.Fatal(err)
			}
			f, err := Open(context.Background(), storage.Disk{}, path)
			if err != nil {
				t.Fatal(err)
			}
			err = f.Batches(context.Background(), func(arrow.RecordBatch) error { return nil })
			f.Close()
			if want := fmt.Sprintf("row group %d, column %q", group+1, name); err == nil || !strings.Contains(err.Error(), want) ||
				!strings.Contains(err.Error(), "x.parquet: cannot be read") {
				t.Errorf("%v, want %s", err, want)
			}
		}
	}
}

// TestOffsetsAreHeldAgainstTexts damages the places of the texts in an Arrow file, of which its reader does not take notice.
func TestOffsetsAreHeldAgainstTexts(t *testing.T) {
	whole := written(t, Options{Format: Arrow, Codec: "none", RowGroupRows: 1 << 20, RowGroupBytes: 1 << 20})
	// The first three texts are as long as this, so their offsets are found by their bytes.
	var offsets []byte
	for _, n := range []uint32{0, uint32(len("note 0")), uint32(len("note 0note 1eef"))} {
		offsets = binary.LittleEndian.AppendUint32(offsets, n)
	}
	at := bytes.Index(whole, offsets)
	if at < 0 {
		t.Fatal("the offsets are not to be found")
	}
	for _, wrong := range []uint32{1 << 30, 1 << 31, 9000} {
		binary.LittleEndian.PutUint32(whole[at+4:], wrong)
		path := filepath.Join(t.TempDir(), "x.arrow")
		if err := os.WriteFile(path, whole, 0o644); err != nil {
			t.Fatal(err)
		}
		f, err := Open(context.Background(), storage.Disk{}, path)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Batches(t.Context(), func(arrow.RecordBatch) error { return nil })
		f.Close()
		if err == nil || !strings.Contains(err.Error(), "x.arrow: cannot be read as a columnar file: record batch 1: ") ||
			!strings.Contains(err.Error(), "ask the sender") {
			t.Errorf("offset %d: %v", wrong, err)
		}
	}
}

// A fault of what takes the rows is not said to be one of the file.
func TestFaultsAreNotTheFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.parquet")
	if err := os.WriteFile(path, groups(t), 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := Open(context.Background(), storage.Disk{}, path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	err = f.Batches(context.Background(), func(arrow.RecordBatch) error { panic("beyond the last column") })
	if err == nil || !strings.Contains(err.Error(), "a fault of this program: beyond the last column") ||
		strings.Contains(err.Error(), "ask the sender") {
		t.Errorf("%v", err)
	}
	if err := f.Batches(context.Background(), func(arrow.RecordBatch) error { return os.ErrClosed }); err != os.ErrClosed {
		t.Errorf("%v", err)
	}
}
