package table

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/iceberg-go"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// manifests reads the list of a table's newest snapshot.
func manifests(t testing.TB, w *Warehouse, name Name) []iceberg.ManifestFile {
	t.Helper()
	tbl, err := w.Load(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	list, err := tbl.table.CurrentSnapshot().Manifests(mending{files{t.Context(), w.store}})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// areas loads rows whose only column, which the table is partitioned by, has the texts given; nil is null.
func areas(t testing.TB, w *Warehouse, name Name, values ...any) {
	t.Helper()
	existing, err := w.Load(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	var a *Append
	if existing == nil {
		s := schema.Schema{Fields: []schema.Field{{Name: "area", Type: schema.Type{Kind: schema.String}}}}
		if a, err = w.Create(name, s, layout.Spec{{Name: "identity", Column: "area"}}, nil, columnar.Parquet); err != nil {
			t.Fatal(err)
		}
	} else {
		a = appended(t, w, existing, existing.Schema)
	}
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.Schema.Arrow())
	for _, v := range values {
		if text, ok := v.(string); ok {
			build.Field(0).(*array.StringBuilder).Append(text)
		} else {
			build.Field(0).AppendNull()
		}
	}
	commit(t, a, build.NewRecordBatch())
}

// commit writes the rows of a load and commits it.
func commit(t testing.TB, a *Append, rows arrow.RecordBatch) {
	t.Helper()
	r := layout.NewRouter(a.Schema, a.Spec, layout.DefaultOptions, a.CreateFile)
	if err := r.Write(t.Context(), rows); err != nil {
		t.Fatal(err)
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Commit(t.Context(), files); err != nil {
		t.Fatal(err)
	}
}

// TestEmptyTextsAreBounds holds that the bounds of a manifest's partitions are there although they are empty, in the commit that
// brings them and in those after it; only those of nulls alone are absent.
func TestEmptyTextsAreBounds(t *testing.T) {
	for _, test := range []struct {
		loads [][]any
		want  string
	}{
		{[][]any{{"", "Cairn Bay", nil}}, `"" to "Cairn Bay" with nulls`},
		{[][]any{{""}}, `"" to ""`},
		{[][]any{{"", nil}}, `"" to "" with nulls`},
		{[][]any{{nil}}, `nothing with nulls`},
		{[][]any{{"Cairn Bay", "The Narrows"}}, `"Cairn Bay" to "The Narrows"`},
		{[][]any{{nil}, {"", "a"}, {"b"}}, `"b" to "b"; "" to "a"; nothing with nulls`},
	} {
		w, name := open(t, t.TempDir())
		for _, values := range test.loads {
			areas(t, w, name, values...)
		}
		var got []string
		for _, m := range manifests(t, w, name) {
			p := m.Partitions()[0]
			text := "nothing"
			if p.LowerBound != nil && p.UpperBound != nil {
				text = fmt.Sprintf("%q to %q", *p.LowerBound, *p.UpperBound)
			}
			if p.ContainsNull {
				text += " with nulls"
			}
			got = append(got, text)
		}
		if joined := strings.Join(got, "; "); joined != test.want {
			t.Errorf("%v: %s", test.loads, joined)
		}
	}
}

func spec(t testing.TB, text string, s schema.Schema) layout.Spec {
	t.Helper()
	spec, err := layout.ParseSpec(text, s)
	if err != nil {
		t.Fatal(err)
	}
	return spec
}

// TestPartitionValuesOfAllKinds reads the values back out of the manifest.
func TestPartitionValuesOfAllKinds(t *testing.T) {
	s := schema.Schema{Fields: []schema.Field{
		{Name: "price", Type: schema.Type{Kind: schema.Decimal, Precision: 9, Scale: 2}},
		{Name: "large", Type: schema.Type{Kind: schema.Decimal, Precision: 30, Scale: 3}},
		{Name: "id", Type: schema.Type{Kind: schema.UUID}},
		{Name: "key", Type: schema.Type{Kind: schema.Binary}},
	}}
	w, name := open(t, t.TempDir())
	twice := spec(t, "price,truncate(1000,large)", s)
	if _, err := w.Create(name, s, twice, nil, columnar.Parquet); err == nil ||
		!strings.Contains(err.Error(), "price and truncate(1000,large) are both decimals") {
		t.Errorf("%v", err)
	}
	a, err := w.Create(name, s, spec(t, "truncate(1000,large),id,truncate(2,key),bucket(8,price)", s), nil, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.Schema.Arrow())
	build.Field(0).(*array.Decimal128Builder).Append(decimal128.FromI64(-1950))
	build.Field(1).(*array.Decimal128Builder).Append(decimal128.New(-1, 5))
	build.Field(2).(*array.FixedSizeBinaryBuilder).Append([]byte("0123456789abcdef"))
	build.Field(3).(*array.BinaryBuilder).Append([]byte{0, '/', 7})
	commit(t, a, build.NewRecordBatch())
	list := manifests(t, w, name)
	entries, err := list[0].FetchEntries(mending{files{t.Context(), w.store}}, false)
	if err != nil || len(entries) != 1 {
		t.Fatal(len(entries), err)
	}
	file := entries[0].DataFile()
	if !strings.Contains(file.FilePath(),
		"large_trunc=-18446744073709552.000/id=30313233-3435-3637-3839-616263646566/key_trunc=002f/price_bucket=") {
		t.Error(file.FilePath())
	}
	got := file.Partition()
	if fmt.Sprint(got[1000]) != "-18446744073709552.000" || fmt.Sprint(got[1001]) != "30313233-3435-3637-3839-616263646566" ||
		fmt.Sprint(got[1002]) != "[0 47]" {
		t.Errorf("%v", got)
	}
}

// TestPartitionsWithoutAField has a partitioning out of which another engine took a field, as tables of version 1 keep it.
func TestPartitionsWithoutAField(t *testing.T) {
	kept := iceberg.NewPartitionSpec(
		iceberg.PartitionField{SourceIDs: []int{1}, FieldID: 1000, Name: "gone", Transform: iceberg.VoidTransform{}},
		iceberg.PartitionField{SourceIDs: []int{2}, FieldID: 1001, Name: "area", Transform: iceberg.IdentityTransform{}},
		iceberg.PartitionField{SourceIDs: []int{3}, FieldID: 1002, Name: "price", Transform: iceberg.TruncateTransform{Width: 100}})
	s := iceberg.NewSchema(0, iceberg.NestedField{ID: 1, Name: "id", Type: iceberg.PrimitiveTypes.Int64},
		iceberg.NestedField{ID: 2, Name: "area", Type: iceberg.PrimitiveTypes.String},
		iceberg.NestedField{ID: 3, Name: "price", Type: iceberg.DecimalTypeOf(9, 2)})
	read, err := specFromIceberg(kept, s)
	if err != nil || read.String() != "area,truncate(100,price)" {
		t.Fatalf("%s, %v", read, err)
	}
	got := partitionValues(kept, []layout.Value{"Cairn Bay", layout.Decimal{Unscaled: decimal128.FromI64(300), Scale: 2}})
	want := map[int]any{1000: nil, 1001: "Cairn Bay", 1002: iceberg.Decimal{Val: decimal128.FromI64(300), Scale: 2}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

// TestListsWithManifestsOfDeletes mends a list as a table has it that other engines delete from, in each version of the format.
func TestListsWithManifestsOfDeletes(t *testing.T) {
	spec := iceberg.NewPartitionSpec(iceberg.PartitionField{SourceIDs: []int{1}, FieldID: 1000, Name: "area",
		Transform: iceberg.IdentityTransform{}})
	s := iceberg.NewSchema(0, iceberg.NestedField{ID: 1, Name: "area", Type: iceberg.PrimitiveTypes.String})
	for _, version := range []int{2, 3} {
		dir := t.TempDir()
		var bytesOf bytes.Buffer
		w, err := iceberg.NewManifestWriter(version, &bytesOf, spec, s, 1,
			iceberg.WithManifestWriterContent(iceberg.ManifestContentDeletes))
		if err != nil {
			t.Fatal(err)
		}
		for i, area := range []any{"", nil} {
			b, err := iceberg.NewDataFileBuilder(spec, iceberg.EntryContentEqDeletes, fmt.Sprint("d", i, ".parquet"), iceberg.ParquetFile,
				map[int]any{1000: area}, nil, nil, 1, 100)
			if err != nil {
				t.Fatal(err)
			}
			id := int64(1)
			file := b.EqualityFieldIDs([]int{1}).Build()
			if err := w.Add(iceberg.NewManifestEntry(iceberg.EntryStatusADDED, &id, nil, nil, file)); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, "deletes.avro")
		if err := os.WriteFile(path, bytesOf.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		manifest, err := w.ToManifestFile(path, int64(bytesOf.Len()))
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(dir, "snap-1.avro")
		out, err := mending{files{t.Context(), storage.Disk{}}}.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		sequence := int64(1)
		if err := iceberg.WriteManifestList(version, out, 1, nil, &sequence, 0, []iceberg.ManifestFile{manifest}); err != nil {
			t.Fatal(err)
		}
		if err := out.Close(); err != nil {
			t.Fatalf("version %d: %v", version, err)
		}
		file, err := os.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		list, err := iceberg.ReadManifestList(file)
		file.Close()
		if err != nil || len(list) != 1 || list[0].ManifestContent() != iceberg.ManifestContentDeletes || list[0].SequenceNum() != 1 {
			t.Fatalf("version %d: %v, %v", version, list, err)
		}
		if p := list[0].Partitions()[0]; p.LowerBound == nil || p.UpperBound == nil || len(*p.LowerBound)+len(*p.UpperBound) != 0 ||
			!p.ContainsNull {
			t.Errorf("version %d: %+v", version, p)
		}
	}
}
