package table

import (
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// names lists the columns of a schema with their types and ids.
func names(s schema.Schema) string {
	var out []string
	for _, f := range s.Fields {
		out = append(out, f.Name+" "+f.Type.Kind.String())
	}
	return strings.Join(out, ",")
}

// TestSchemaGrowsWithTheCommit loads under a schema that has a new column and a wider one, and keeps what is known of columns besides.
func TestSchemaGrowsWithTheCommit(t *testing.T) {
	w, name := open(t, t.TempDir())
	s := schema.Schema{Key: []string{"id"},
		Fields: []schema.Field{{Name: "id", Type: schema.Type{Kind: schema.Int}, Required: true, Pinned: true},
			{Name: "day", Type: schema.Type{Kind: schema.Date},
				Notation: schema.Notation{Format: "%d/%m/%Y", Nulls: []string{"NA"}, DecimalMark: ","}},
			{Name: "note", Type: schema.Type{Kind: schema.String}, Longest: 12}}}
	a, err := w.Create(name, s, nil, layout.Sort{{Column: "day", Descending: true, NullsLast: true}}, columnar.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Commit(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	first, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	if f := first.Schema.Fields; !f[0].Pinned || f[1].Notation.Format != "%d/%m/%Y" || f[1].Notation.Nulls[0] != "NA" ||
		f[1].Notation.DecimalMark != "" || f[2].Longest != 12 ||
		!slices.Equal(first.Schema.Key, []string{"id"}) || first.Sort.String() != "day desc" {
		t.Errorf("%+v, %s", first.Schema, first.Sort)
	}
	grown := first.Schema.Clone()
	grown.Fields[0].Type.Kind = schema.Long
	grown.Fields[2].Longest = 5
	grown.Fields = append(grown.Fields, schema.Field{ID: first.LastColumnID() + 1, Name: "crew", Origin: "Crew",
		Type: schema.Type{Kind: schema.String}})
	a = appended(t, w, first, grown)
	a.Cause, a.Changes = "load of 2.csv", []string{"column crew is new"}
	build := array.NewRecordBuilder(memory.DefaultAllocator, grown.Arrow())
	build.Field(0).(*array.Int64Builder).Append(3_000_000_000)
	build.Field(1).AppendNull()
	build.Field(2).(*array.StringBuilder).Append("x")
	build.Field(3).(*array.StringBuilder).Append("Ina")
	r := layout.NewRouter(grown, nil, layout.DefaultOptions, a.CreateFile)
	if err := r.Write(t.Context(), build.NewRecordBatch()); err != nil {
		t.Fatal(err)
	}
	files, err := r.Close(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if s, err := a.Commit(t.Context(), files); err != nil || s.AddedRows != 1 {
		t.Fatalf("%+v, %v", s, err)
	}
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	if got := names(now.Schema); got != "id long,day date,note string,crew string" || now.Schema.Fields[3].Origin != "Crew" ||
		now.Schema.Fields[2].Longest != 12 {
		t.Errorf("%s, %+v", got, now.Schema)
	}
	versions, err := now.Versions()
	if err != nil || len(versions) != 2 || versions[0].Cause != "first load" || versions[1].Cause != "load of 2.csv" ||
		!versions[1].Current || versions[1].At == nil || versions[1].Changes[0] != "column crew is new" {
		t.Errorf("%+v, %v", versions, err)
	}
	// The same schema once more makes no version.
	a = appended(t, w, now, now.Schema)
	if _, err := a.Commit(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if again, err := w.Find(t.Context(), name); err != nil {
		t.Fatal(err)
	} else if versions, err := again.Versions(); err != nil || len(versions) != 2 {
		t.Errorf("%d versions, %v", len(versions), err)
	}
}

// TestAlterWhileALoadIsUnderWay changes the schema between the beginning of a load and its commit.
func TestAlterWhileALoadIsUnderWay(t *testing.T) {
	w, name := open(t, t.TempDir())
	if _, err := load(t, w, name, 4); err != nil {
		t.Fatal(err)
	}
	before, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	a := appended(t, w, before, before.Schema)
	files := write(t, a, 2)
	changes, err := w.Alter(t.Context(), name, Alteration{Columns: func(now *Table) (schema.Schema, []string, error) {
		return now.Schema.Alter(schema.Alteration{Rename: []schema.Setting{{Column: "id", Value: "number"}}, First: []string{"readings"}})
	}}, false)
	if err != nil || len(changes) != 2 {
		t.Fatalf("%v, %v", changes, err)
	}
	// New names do not stand against the load, whose files go by ids.
	if _, err := a.Commit(t.Context(), files); err != nil {
		t.Errorf("a load under the schema before: %v", err)
	}
	now, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	if got := names(now.Schema); got != "readings list,number long,sea_area string" || rows(t, now) != 6 ||
		now.Schema.Fields[1].Origin != "id" {
		t.Errorf("%s, %d rows", got, rows(t, now))
	}
	// Nothing to change makes no commit.
	if changes, err := w.Alter(t.Context(), name, Alteration{Columns: func(now *Table) (schema.Schema, []string, error) {
		return now.Schema, nil,
			nil
	}}, false); err != nil || len(changes) != 0 {
		t.Errorf("%v, %v", changes, err)
	}
	if again, err := w.Find(t.Context(), name); err != nil || len(again.Snapshots()) != len(now.Snapshots()) {
		t.Errorf("an empty alteration was committed: %v", err)
	}
}
