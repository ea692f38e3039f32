package orc

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"google.golang.org/protobuf/encoding/protowire"

	"trevak/internal/schema"
)

// filters reads the Bloom filters of a column of the first stripe, and returns for each a function that tells whether a hash
// may be in it.
func filters(t *testing.T, f *File, column int) (out []func(hash uint64) bool) {
	t.Helper()
	columns, _, err := f.streamsOf(f.tail.stripes[0])
	if err != nil {
		t.Fatal(err)
	}
	in := columns[column].inputs[streamBloomUTF8]
	if in == nil {
		t.Fatalf("column %d has no filters", column)
	}
	packed := make([]byte, in.packed.Size())
	if _, err := in.packed.ReadAt(packed, 0); err != nil {
		t.Fatal(err)
	}
	index, err := f.tail.unpack.whole(packed)
	if err != nil {
		t.Fatal(err)
	}
	err = walk(index, func(_ protowire.Number, filter value) error {
		var functions int32
		var set []byte
		err := walk(filter.bytes, func(field protowire.Number, v value) error {
			switch field {
			case 1:
				functions = int32(v.number)
			case 3:
				set = v.bytes
			}
			return nil
		})
		out = append(out, func(hash uint64) bool {
			for i := range functions {
				at := int32(hash) + (i+1)*int32(hash>>32)
				if at < 0 {
					at = ^at
				}
				bit := int(at) % (8 * len(set))
				if binary.LittleEndian.Uint64(set[bit/64*8:])>>(bit%64)&1 == 0 {
					return false
				}
			}
			return true
		})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// hashes are those of the values of row i of testdata/bloom.orc, by column.
func hashes(i int) []uint64 {
	var b bloom
	b.long(int64(i*i*1000003 - 1_000_000_000))
	b.text([]byte("OS-" + strings.Repeat(fmt.Sprint(i*7), 1+i%5)))
	b.long(time.Date(1960, 1, 1+9*i, 0, 0, 0, 0, time.UTC).Unix() / 86400)
	b.micros(time.Date(2031, 5, 2, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * 1001 * time.Millisecond).UnixMicro())
	return b.hashes
}

// TestHashesAreThoseOfOthers looks for values in filters that another writer made of them.
func TestHashesAreThoseOfOthers(t *testing.T) {
	data, err := os.ReadFile("testdata/bloom.orc")
	if err != nil {
		t.Fatal(err)
	}
	f, err := Open(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	const rows, group = 2500, 1000
	for column := range 4 {
		list := filters(t, f, column+1)
		if len(list) != 3 {
			t.Fatalf("column %d has %d filters", column, len(list))
		}
		wrong := 0
		for i := range rows {
			for g, there := range list {
				switch hash := hashes(i)[column]; {
				case g == i/group && !there(hash):
					t.Fatalf("column %d: the value of row %d is not in its filter", column, i)
				case g != i/group && there(hash):
					wrong++
				}
			}
		}
		if wrong > rows*2/50 {
			t.Errorf("column %d: %d values are said to be where they are not", column, wrong)
		}
	}
}

// written writes rows, which are JSON objects, as a file.
func written(t *testing.T, s schema.Schema, o Options, rows []string) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(&out, s, o)
	if err == nil {
		err = w.Write(t.Context(), batchOf(t, s, "["+strings.Join(rows, ",")+"]"))
	}
	if err == nil {
		_, err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// TestBloomFilters writes filters of all types that have them, in parts too, and looks for values that are there and others.
func TestBloomFilters(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{field(0, "id", schema.Long),
		{Name: "pos", Type: schema.Type{Kind: schema.Struct,
			Fields: []schema.Field{field(0, "lat", schema.Double), field(0, "area", schema.String)}}},
		{Name: "marks", Type: schema.Type{Kind: schema.List,
			Element: &schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Int}}}}}}
	s.AssignIDs()
	var text []string
	const rows = 2*stride + 17
	for i := range rows {
		text = append(text, fmt.Sprintf(`{"id":%d,"pos":{"lat":1.5,"area":"a%d"},"marks":[%d,null]}`, 2*i, i%1000, i/stride))
	}
	for _, codec := range []string{"none", "zstd"} {
		data := written(t, s, Options{Codec: codec, Bloom: []string{"id", "pos.area", "marks.element"}}, text)
		f, err := Open(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			t.Fatal(err)
		}
		if layout, err := f.Layout(); err != nil || !layout.Columns[0].Bloom || layout.Columns[1].Bloom || !layout.Columns[2].Bloom ||
			!layout.Columns[3].Bloom {
			t.Errorf("%+v, %v", layout.Columns, err)
		}
		ids, areas, marks := filters(t, f, 1), filters(t, f, 4), filters(t, f, 6)
		if len(ids) != 3 || len(areas) != 3 || len(marks) != 3 {
			t.Fatalf("%d, %d and %d filters", len(ids), len(areas), len(marks))
		}
		wrong := 0
		for i := range rows {
			var there, other bloom
			there.long(int64(2 * i))
			there.text(fmt.Appendf(nil, "a%d", i%1000))
			there.long(int64(i / stride))
			other.long(int64(2*i + 1))
			g := i / stride
			if !ids[g](there.hashes[0]) || !areas[g](there.hashes[1]) && g < 2 || !marks[g](there.hashes[2]) {
				t.Fatalf("%s: a value of row %d is not in its filter", codec, i)
			}
			if ids[g](other.hashes[0]) {
				wrong++
			}
		}
		if wrong > rows/50 {
			t.Errorf("%s: %d of %d values are said to be there that are not", codec, wrong, rows)
		}
	}
}
