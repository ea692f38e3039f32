package scan_test

import (
	"fmt"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/convert"
	"trevak/internal/expr"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/shape"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// soundings are records of text whose quoted notes hold line ends.
func soundings(n int) string {
	var b strings.Builder
	b.WriteString("id,area,note\n")
	for i := range n {
		note := "calm"
		if i%17 == 3 {
			note = "\"a\nb,\"\"c\""
		}
		fmt.Fprintf(&b, "%d,%s,%s\n", i, []string{"Cairn Bay", "The Narrows"}[i%2], note)
	}
	return b.String()
}

// data surveys sources and settles their schema.
func data(t testing.TB, form shape.Spec, sources ...string) (*infer.Data, schema.Schema) {
	t.Helper()
	r := infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: sources}, Shape: form}
	d, err := infer.Survey(t.Context(), &r, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	i, err := d.All(t.Context(), r, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	return d, i.Schema
}

// read reads rows as texts, with the line or number of the record of each.
func read(t testing.TB, s scan.Source, r scan.Request) (out []string) {
	t.Helper()
	r.Budget = run.Budget{Workers: 3}
	err := s.Read(t.Context(), r, func(rows *scan.Rows) error {
		if len(rows.Problems) > 0 {
			t.Fatalf("%+v", rows.Problems)
		}
		for row := range int(rows.Batch.NumRows()) {
			text := fmt.Sprintf("%d", rows.Block.Object)
			for _, c := range rows.Batch.Columns() {
				text += "|" + c.ValueStr(row)
			}
			out = append(out, text)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// sources are the same rows as text, as JSON lines, as columnar files and in another form.
func sources(t testing.TB) map[string]*infer.Data {
	testfolder.Make(t, map[string]string{"in.csv": soundings(20_000)})
	out := map[string]*infer.Data{}
	for _, name := range []string{"in.ndjson", "in.parquet", "in.orc", "in.avro"} {
		c := convert.Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{},
			Sources: []string{"in.csv"}}}}, To: name, Layout: layout.DefaultOptions}
		c.Layout.Columnar.RowGroupRows = 3000
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"in.csv", "in.ndjson", "in.parquet", "in.orc", "in.avro"} {
		out[name], _ = data(t, shape.Spec{}, name)
	}
	out["another form"], _ = data(t, shape.Spec{Where: "id >= 0"}, "in.csv")
	return out
}

// TestRequestsAreTheSameForEverySource asks sources of the same rows for the same.
func TestRequestsAreTheSameForEverySource(t *testing.T) {
	var target schema.Schema
	for name, d := range sources(t) {
		if len(target.Fields) == 0 {
			_, target = data(t, shape.Spec{}, "in.csv")
		}
		request := scan.Request{Target: scan.Target{Schema: target, Unknown: fit.UnknownKept}}
		all := read(t, d.Rows, request)
		if len(all) != 20_000 || all[3] != "0|3|The Narrows|a\nb,\"c" {
			t.Fatalf("%s: %d rows, %q", name, len(all), all[3])
		}
		where := request
		where.Where = parsed(t, "id between 9990 and 10009 and area = 'Cairn Bay'", target)
		var skipped columnar.Skipped
		where.Skipped = &skipped
		if got := read(t, d.Rows, where); len(got) != 10 || got[0] != all[9990] {
			t.Errorf("%s: %d rows where a condition holds, %q", name, len(got), got)
		}
		if name == "in.parquet" && skipped.Groups != 6 {
			t.Errorf("%s: %+v", name, skipped)
		}
		limited := request
		limited.Limit = 8500
		if got := read(t, d.Rows, limited); len(got) != 8500 || got[8499] != all[8499] {
			t.Errorf("%s: %d rows of 8500", name, len(got))
		}
		some := scan.Request{Target: scan.Target{Schema: schema.Schema{Fields: []schema.Field{target.Fields[1], target.Fields[0]},
			Omission: schema.Omission{OmitRest: true}}}}
		if got := read(t, d.Rows, some); len(got) != 20_000 || got[7] != "0|The Narrows|7" {
			t.Errorf("%s: some columns: %q", name, got[7])
		}
		plan, err := d.Rows.Plan(t.Context(), 4<<10)
		if err != nil {
			t.Fatal(err)
		}
		if divided := name != "in.orc" && name != "in.avro"; len(plan) > 1 != divided {
			t.Errorf("%s: %d splits", name, len(plan))
		}
		var parts []string
		for _, s := range plan {
			part := request
			part.Splits = []scan.Split{s}
			parts = append(parts, read(t, d.Rows, part)...)
		}
		if strings.Join(parts, "\n") != strings.Join(all, "\n") {
			t.Errorf("%s: %d rows in %d splits, want %d", name, len(parts), len(plan), len(all))
		}
	}
}

func parsed(t testing.TB, text string, s schema.Schema) *expr.Expression {
	t.Helper()
	e, err := expr.Parse(text, s.Fields)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// TestSplitsKeepPlaces reads the second half of a file alone, in which a record is bad: its line is that of the file.
func TestSplitsKeepPlaces(t *testing.T) {
	text := soundings(20_000)
	at := strings.Index(text, "\n15000,") + 1
	testfolder.Make(t, map[string]string{"in.csv": text[:at] + "bad\n" + text[at:]})
	d, target := data(t, shape.Spec{}, "in.csv")
	plan, err := d.Rows.Plan(t.Context(), int64(len(text)/3))
	if err != nil || len(plan) < 2 {
		t.Fatal(plan, err)
	}
	var lines []int64
	r := scan.Request{Target: scan.Target{Schema: target, Unknown: fit.UnknownKept}, Splits: plan[1:], Budget: run.DefaultBudget()}
	err = d.Rows.Read(t.Context(), r, func(rows *scan.Rows) error {
		for _, p := range rows.Problems {
			lines = append(lines, rows.Block.LineAt(p.Start))
		}
		return nil
	})
	if want := int64(strings.Count(text[:at], "\n") + 1); err != nil || len(lines) != 1 || lines[0] != want {
		t.Errorf("the bad record is on line %v, want %d: %v", lines, want, err)
	}
}
