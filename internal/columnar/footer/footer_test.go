package footer_test

import (
	"bytes"
	"encoding/binary"
	"slices"
	"testing"

	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/metadata"
	"github.com/apache/arrow-go/v18/parquet/schema"
	"github.com/apache/thrift/lib/go/thrift"

	"trevak/internal/columnar/footer"
)

// tree is a schema of so many columns of whole numbers, as elements of a footer, and the columns.
func tree(t *testing.T, n int) (elements []byte, count int, columns []footer.Column) {
	t.Helper()
	var fields schema.FieldList
	for i := range n {
		name := string(rune('a'+i%26)) + string(rune('a'+i/26))
		fields = append(fields, schema.NewInt64Node(name, parquet.Repetitions.Optional, int32(i+1)))
		columns = append(columns, footer.Column{Type: 2, Codec: 1, Path: []string{name}})
	}
	root, err := schema.NewGroupNode("schema", parquet.Repetitions.Required, fields, -1)
	if err != nil {
		t.Fatal(err)
	}
	buffer := thrift.NewTMemoryBuffer()
	protocol := thrift.NewTCompactProtocolConf(buffer, nil)
	list := schema.ToThrift(root)
	for _, e := range list {
		if err := e.Write(t.Context(), protocol); err != nil {
			t.Fatal(err)
		}
	}
	return buffer.Bytes(), len(list), columns
}

func whole(v int64) []byte { return binary.LittleEndian.AppendUint64(nil, uint64(v)) }

// TestFooterIsReadByAnother holds what is written against what another reader finds, for few and for many columns and groups:
// short and long lists begin in different ways.
func TestFooterIsReadByAnother(t *testing.T) {
	for _, sizes := range [][2]int{{1, 0}, {1, 1}, {3, 2}, {40, 20}} {
		elements, count, columns := tree(t, sizes[0])
		f := footer.File{Columns: columns, Schema: elements, Elements: count, CreatedBy: "a harbour master",
			Notes: [][2]string{{"tide", "low"}, {"", ""}}}
		at := int64(4)
		for g := range sizes[1] {
			group := footer.RowGroup{Rows: int64(100 * (g + 1))}
			for c := range columns {
				k := footer.Chunk{Encodings: []int32{3, 0, 8}, Pages: []footer.PageCount{{Dictionary: true, Count: 1}, {Encoding: 8, Count: 4}},
					Values: group.Rows, Raw: 900, Packed: 700, Dictionary: at, Data: at + 100,
					Statistics:  footer.Statistics{Min: whole(int64(-c)), Max: whole(int64(c)), Nulls: int64(g)},
					IndexOffset: at + 1e9, IndexBytes: 33, OffsetIndexOffset: at + 2e9, OffsetIndexBytes: 44}
				if c%2 == 1 {
					k.Dictionary, k.Encodings, k.Pages = 0, []int32{3, 5}, k.Pages[1:]
					k.BloomOffset, k.BloomBytes = at+3e9, 1<<20
				}
				group.Chunks = append(group.Chunks, k)
				at += 700
			}
			f.Groups = append(f.Groups, group)
		}
		got, err := metadata.NewFileMetaData(f.Append(nil), nil)
		if err != nil {
			t.Fatalf("%v: %v", sizes, err)
		}
		if got.GetNumRows() != f.Rows() || got.NumRowGroups() != sizes[1] || got.Schema.NumColumns() != sizes[0] ||
			got.GetCreatedBy() != f.CreatedBy || *got.KeyValueMetadata().FindValue("tide") != "low" {
			t.Fatalf("%v: %d rows, %d groups, %d columns of %s", sizes, got.GetNumRows(), got.NumRowGroups(), got.Schema.NumColumns(),
				got.GetCreatedBy())
		}
		for g, group := range f.Groups {
			for c, want := range group.Chunks {
				same(t, got.RowGroup(g), c, want)
			}
			if got.RowGroup(g).NumRows() != group.Rows || got.RowGroup(g).TotalByteSize() != 900*int64(sizes[0]) {
				t.Errorf("group %d has %d rows, %d bytes", g, got.RowGroup(g).NumRows(), got.RowGroup(g).TotalByteSize())
			}
		}
	}
}

func same(t *testing.T, group *metadata.RowGroupMetaData, c int, want footer.Chunk) {
	t.Helper()
	got, err := group.ColumnChunk(c)
	if err != nil {
		t.Fatal(err)
	}
	stats, err := got.Statistics()
	if err != nil {
		t.Fatal(err)
	}
	if got.NumValues() != want.Values || got.TotalCompressedSize() != want.Packed || got.TotalUncompressedSize() != want.Raw ||
		got.DataPageOffset() != want.Data || got.HasDictionaryPage() != (want.Dictionary > 0) || got.FileOffset() != want.Start() ||
		got.BloomFilterOffset() != want.BloomOffset || len(got.EncodingStats()) != len(want.Pages) {
		t.Errorf("column %d came back as %+v", c, got)
	}
	if want.Dictionary > 0 && got.DictionaryPageOffset() != want.Dictionary {
		t.Errorf("column %d has its dictionary at %d", c, got.DictionaryPageOffset())
	}
	var encodings []int32
	for _, e := range got.Encodings() {
		encodings = append(encodings, int32(e))
	}
	if !slices.Equal(encodings, want.Encodings) {
		t.Errorf("column %d has the encodings %v", c, encodings)
	}
	if !bytes.Equal(stats.EncodeMin(), want.Statistics.Min) || !bytes.Equal(stats.EncodeMax(), want.Statistics.Max) ||
		stats.NullCount() != want.Statistics.Nulls {
		t.Errorf("column %d has the statistics %v", c, stats)
	}
	index, offsets := got.GetColumnIndexLocation(), got.GetOffsetIndexLocation()
	if index.Offset != want.IndexOffset || index.Length != want.IndexBytes || offsets.Offset != want.OffsetIndexOffset ||
		offsets.Length != want.OffsetIndexBytes {
		t.Errorf("column %d has its indexes at %v, %v", c, index, offsets)
	}
}
