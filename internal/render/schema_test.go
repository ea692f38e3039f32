package render

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/weigh"
	"trevak/internal/write"
)

// drawn returns what is written for people.
func drawn(f func(Screen)) string {
	var b bytes.Buffer
	f(Screen{Writer: &b, Width: 140})
	return b.String()
}

func TestDriftShowsOnlyWhatThereIs(t *testing.T) {
	text := drawn(func(s Screen) {
		Drift(s, []schema.Difference{{Kind: schema.Widened, Column: "n", Was: "int", Is: "long"},
			{Kind: schema.Unfit, Column: "depth", Was: "double", Records: 1200, Location: "in/a.csv", Line: 7, Value: "deep"},
			{Kind: schema.LikelyRename, Column: "depth_m", From: "depth"}, {Kind: schema.CaseOnly, Column: "area", From: "AREA"},
			{Kind: schema.UnknownColumn, Column: "extra"}})
	})
	expect(t, text, "int → long", "1,200", "in/a.csv:7", "deep", "likely rename", "letter case", "not in the table",
		"trevak alter TABLE --rename depth_m=depth")
	alone := drawn(func(s Screen) { Drift(s, []schema.Difference{{Kind: schema.Missing, Column: "x", Was: "string"}}) })
	if strings.Contains(alone, "records") || strings.Contains(alone, "in the source") {
		t.Errorf("empty columns are shown:\n%s", alone)
	}
}

func TestHistoryAndSchema(t *testing.T) {
	at := time.Date(2031, 5, 4, 1, 2, 3, 0, time.UTC)
	before := schema.Schema{Fields: []schema.Field{{ID: 1, Name: "id", Type: schema.Type{Kind: schema.Int}, Required: true}}}
	after := schema.Schema{Key: []string{"id"},
		Fields: []schema.Field{{ID: 1, Name: "id", Type: schema.Type{Kind: schema.Long}, Required: true},
			{ID: 2, Name: "pos", Type: schema.Type{Kind: schema.Struct,
				Fields: []schema.Field{{ID: 3, Name: "lat.deg", Type: schema.Type{Kind: schema.Double},
					Notation: schema.Notation{Format: "# m", Nulls: []string{"NA"}, DecimalMark: ","}}}}},
			{ID: 4, Name: "note", Type: schema.Type{Kind: schema.String}, Longest: 1234, Doc: "what the crew said"}}}
	versions := []table.Version{{ID: 0, Schema: before, Cause: "first load"},
		{ID: 3, Schema: after, Current: true, At: &at, Cause: "load of 2.csv"}}
	text := drawn(func(s Screen) { History(s, "ops.r", versions) })
	expect(t, text, "2 versions of its schema", "3, current  2031-05-04 01:02:03Z  load of 2.csv", "~ id from int to long",
		"+ note string", "0  -  first load", "1 column")
	name, err := table.ParseName("ops.r")
	if err != nil {
		t.Fatal(err)
	}
	people, programs := shown(t, func(s Screen) { Schema(s, &table.Table{Name: name, Schema: after}, versions) }, func(s Screen) error {
		return SchemaJSON(s, &table.Table{Name: name, Schema: after}, versions)
	})
	expect(t, people, "version 3 of 2 versions", "  lat.deg", `# m; decimal mark ,; null is "NA"`, "1,234", "what the crew said",
		"Key: id")
	if list := programs["versions"].([]any); len(list) != 2 || list[1].(map[string]any)["current"] != true ||
		len(programs["columns"].([]any)) != 4 {
		t.Errorf("%v", programs)
	}
}

func TestDryRunReport(t *testing.T) {
	r := &write.Report{Table: "ops.r", DryRun: true, Created: true, Objects: []write.ObjectReport{{Location: "a.csv"}},
		NullTokens: []write.NullTokens{{Column: "depth", Values: 2}},
		Alignment: []write.Aligned{{Column: "id", Type: "long", Location: "a.csv", From: "ID", FromType: "long", Action: "takes"},
			{Column: "gone", Type: "string", Action: "stays null"}},
		Drift: []schema.Difference{{Kind: schema.Unfit, Column: "id", Was: "long", Records: 1}}}
	text := drawn(func(s Screen) { Report(s, r) })
	expect(t, text, "ops.r (new table): nothing was written; a load would do this", "takes", "stays null",
		"2 values were taken for null in depth", "kept in the column _misfit")
}

func TestWeighing(t *testing.T) {
	w := &weigh.Weighing{Source: "in", Rows: 1000, PlainBytes: 4000, Favor: weigh.FavorSize, Codec: "zstd:9",
		Reason: "it is the smallest", Bytes: 500,
		Whole: []columnar.Trial{{Codec: "none", Bytes: 4000, WriteSeconds: 0.001, ReadSeconds: 0.002},
			{Codec: "zstd:9", Bytes: 500, WriteSeconds: 0.01, ReadSeconds: 0.002}},
		Columns: []weigh.WeighedColumn{{Path: "id", Type: "long", PlainBytes: 4000, Best: columnar.Trial{Codec: "zstd:9", Bytes: 500},
			Trials: []columnar.Trial{{Encoding: "delta-binary-packed", Codec: "zstd:3", Bytes: 10},
				{Encoding: "plain", Codec: "zstd:3", Bytes: 90}}}},
		Layouts: []weigh.WeighedLayout{{Flag: "as it comes", Files: 1, Bytes: 600},
			{Flag: "--sort 'id'", Files: 1, Bytes: 500, Filter: "one value of id", ScannedBytes: 25, UnlaidBytes: 600}},
		Readings: []weigh.ReadingCost{{Columns: "all columns", ColumnarBytes: 500, ColumnarSeconds: 0.002}}}
	text := drawn(func(s Screen) { Weighing(s, w) })
	expect(t, text, "1,000 rows", "4.0 MB/s", "0.125", "delta-binary-packed", "--sort 'id'", "one value of id", "25 bytes",
		"Favoring size: --codec 'zstd:9', it is the smallest. The sample takes 500 bytes.")
	if err := WeighingChart("x.gif", w); err == nil || !strings.Contains(err.Error(), "neither") {
		t.Errorf("%v", err)
	}
}
