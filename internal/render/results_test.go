package render

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"trevak/internal/convert"
	"trevak/internal/infer"
	"trevak/internal/inspect"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// shown writes a result to a screen of 120 characters and as JSON.
func shown(t *testing.T, forPeople func(Screen), forPrograms func(Screen) error) (string, map[string]any) {
	t.Helper()
	var people, programs bytes.Buffer
	forPeople(Screen{Writer: &people, Width: 120})
	if err := forPrograms(Screen{Writer: &programs}); err != nil {
		t.Fatal(err)
	}
	var decoded map[string]any
	if err := json.Unmarshal(programs.Bytes(), &decoded); err != nil {
		t.Fatalf("%v in %s", err, programs.String())
	}
	for _, line := range strings.Split(people.String(), "\n") {
		if strings.TrimRight(line, " ") != line {
			t.Errorf("a line ends in spaces: %q", line)
		}
	}
	return people.String(), decoded
}

func expect(t *testing.T, text string, wants ...string) {
	t.Helper()
	for _, want := range wants {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
}

// reading makes files and returns a reading of them.
func reading(t *testing.T, contents map[string]string) write.Task {
	t.Helper()
	testfolder.Make(t, contents)
	return write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{"in"}}}}
}

func TestPreviewOfDifferentFiles(t *testing.T) {
	r := reading(t, map[string]string{"in/1.csv": "id,Sea Area\n1,Cairn Bay\n2,\n3,\"\"\n", "in/2.csv": "id;Sea Area\n4;x\n5;y\n",
		"in/.hidden": "x", "in/empty": ""})
	p, err := inspect.PreviewSource(t.Context(), r.Reading, 10)
	if err != nil {
		t.Fatal(err)
	}
	text, decoded := shown(t, func(s Screen) { Preview(s, p) }, func(s Screen) error { return PreviewJSON(s, p) })
	expect(t, text, "2 objects, ", "1 empty object passed over", "1 hidden object passed over", "in/2.csv: delimiter semicolon: 2 fields",
		"2   ·\n", "3   \"\"\n", "5   y\n")
	records := decoded["records"].([]any)
	if len(records) != 5 || records[1].(map[string]any)["Sea Area"] != nil || records[2].(map[string]any)["Sea Area"] != "" ||
		decoded["hidden_objects"] != 1.0 {
		t.Errorf("%v", decoded)
	}
}

func TestInferenceOfNestedRecords(t *testing.T) {
	r := reading(t, map[string]string{"in/a.ndjson": `{"id":1,"pos":{"lat":1.5},"tags":["x"]}` + "\n" + `{"id":2.5,"odd key":true}` +
		"\nbroken\n", "in/b.ndjson": `{"id":3,"pos":null}` + "\n"})
	i, err := infer.Infer(t.Context(), r.Reading, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	text, decoded := shown(t, func(s Screen) {
		if err := Inference(s, i, nil); err != nil {
			t.Error(err)
		}
	}, func(s Screen) error { return InferenceJSON(s, i, "") })
	expect(t, text, "3 records in 2 objects", "id         double", `a.ndjson:2 "2.5"`, "  lat      double", "  element  string",
		"odd_key    boolean", "odd key\n", "Objects are in in/.",
		"1 record cannot be read, so a load would stop", "in/a.ndjson:3: the record cannot be read: 'b' begins no value")
	columns := decoded["columns"].([]any)
	first := columns[0].(map[string]any)
	if len(columns) != 4 || first["settled_by"].(map[string]any)["line"] != 2.0 || first["seen"].([]any)[0].(map[string]any)["values"] != 2.0 ||
		decoded["records_unreadable"] != 1.0 {
		t.Errorf("%v", decoded)
	}
	position := columns[1].(map[string]any)
	if part := position["parts"].([]any)[0].(map[string]any); part["name"] != "lat" || part["nulls"] != 0.0 || position["nulls"] != 2.0 {
		t.Errorf("%v", position)
	}
}

func TestReportsAndDescriptions(t *testing.T) {
	contents := map[string]string{}
	for i := range 25 {
		contents["in/"+string(rune('a'+i))+".csv"] = "id,Sea Area\n1,x\n"
	}
	r := reading(t, contents)
	w, err := table.OpenWarehouse(storage.Disk{}, "warehouse")
	if err != nil {
		t.Fatal(err)
	}
	name, err := table.ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	var nothing bytes.Buffer
	Tables(Screen{Writer: &nothing, Width: 100}, "warehouse", nil)
	expect(t, nothing.String(), "No table in warehouse yet")
	l := load.Request{Task: r, Again: true, Warehouse: w, Into: name, Partition: "Sea Area", Layout: layout.DefaultOptions}
	for range 12 {
		report, err := load.Load(t.Context(), l, run.DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		if !report.Created {
			continue
		}
		text, decoded := shown(t, func(s Screen) { Report(s, report) }, func(s Screen) error { return ReportJSON(s, report) })
		expect(t, text, "ops.readings (new table)", "… 5 more objects", "in all", "25 read = 25 written + 0 quarantined + 0 skipped",
			`"Sea Area" is Sea_Area`, "partitions  1")
		if len(decoded["objects"].([]any)) != 25 || decoded["rows_written"] != 25.0 || decoded["table"] != "ops.readings" {
			t.Errorf("%v", decoded)
		}
	}
	found, err := w.Find(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	info, err := inspect.DescribeTable(t.Context(), found)
	if err != nil {
		t.Fatal(err)
	}
	text, decoded := shown(t, func(s Screen) { TableInfo(s, info) }, func(s Screen) error { return TableInfoJSON(s, info) })
	expect(t, text, "rows            300", "12 files of", "partitioned by  Sea_Area", "Sea_Area   2  string", "2 snapshots before these",
		"zstd")
	if decoded["rows"] != 300.0 || len(decoded["snapshots"].([]any)) != 12 || decoded["data_files_examined"] != 12.0 {
		t.Errorf("%v", decoded)
	}
	list, err := inspect.ListTables(t.Context(), w)
	if err != nil {
		t.Fatal(err)
	}
	text, decoded = shown(t, func(s Screen) { Tables(s, w.Dir(), list) }, func(s Screen) error { return TablesJSON(s, w.Dir(), list) })
	expect(t, text, "ops.readings   300     12")
	if len(decoded["tables"].([]any)) != 1 {
		t.Errorf("%v", decoded)
	}
	files, err := found.Files(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	built, schema, err := inspect.DescribeFile(t.Context(), storage.Disk{}, files[0].URI)
	if err != nil {
		t.Fatal(err)
	}
	text, decoded = shown(t, func(s Screen) { FileInfo(s, built, schema) },
		func(s Screen) error { return FileInfoJSON(s, built, schema) })
	expect(t, text, "written by trevak", "25 in 1 row group", "long    int64", "byte_array")
	if decoded["rows"] != 25.0 || len(decoded["columns"].([]any)) != 3 {
		t.Errorf("%v", decoded)
	}
}

func TestRefusals(t *testing.T) {
	contents := map[string]string{"in/a.csv": "id,depth\n1,2.5\n2\n3,4,5\n4,deep\n5,6.5\n"}
	r := reading(t, contents)
	r.Corrections.Types = map[string]schema.Stated{"depth": {Type: schema.Type{Kind: schema.Double}}}
	r.Corrections.Required = []string{"depth"}
	for limit, wants := range map[string][]string{
		"0": {"3 of 5 records cannot become rows, more than --tolerate 0 allows", "too-few-fields", "in/a.csv:3"},
		"2": {"3 of 5 records cannot become rows, more than --tolerate 2 allows", "too-few-fields", "too-many-fields", "in/a.csv:4",
			"in/a.csv:5", "They are kept in bad-2.ndjson; nothing else was written."},
	} {
		tolerance, err := write.ParseTolerance("--tolerate", limit)
		if err != nil {
			t.Fatal(err)
		}
		r.Tolerate, r.Quarantine = tolerance, "bad-"+limit+".ndjson"
		_, err = convert.Convert(t.Context(), convert.Request{Task: r, To: "out.parquet", Layout: layout.DefaultOptions},
			run.DefaultBudget())
		var refusal *write.Refusal
		if !errors.As(err, &refusal) {
			t.Fatalf("--tolerate %s: %v", limit, err)
		}
		var people bytes.Buffer
		Refusal(Screen{Writer: &people, Width: 120}, refusal)
		expect(t, people.String(), wants...)
	}
}
