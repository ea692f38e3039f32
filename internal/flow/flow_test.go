package flow

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// files makes files in a temporary folder, which becomes the working folder.
func files(t testing.TB, contents map[string]string) {
	t.Helper()
	t.Chdir(t.TempDir())
	for name, text := range contents {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func conversion(to string, sources ...string) Conversion {
	return Conversion{Reading: Reading{Sources: sources}, To: to, Layout: layout.DefaultOptions}
}

// rows reads every row of Parquet files as text, in order.
func rows(t testing.TB, paths ...string) (out []string) {
	t.Helper()
	for _, path := range paths {
		f, err := columnar.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Batches(t.Context(), func(b arrow.RecordBatch) error {
			for row := range int(b.NumRows()) {
				var cells []string
				for _, c := range b.Columns() {
					cells = append(cells, c.ValueStr(row))
				}
				out = append(out, strings.Join(cells, "|"))
			}
			return nil
		})
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
	}
	return out
}

func types(t testing.TB, path string) string {
	t.Helper()
	f, err := columnar.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var out []string
	for _, field := range f.Schema.Fields {
		out = append(out, field.Name+" "+field.Type.String())
	}
	return strings.Join(out, ", ")
}

func TestConvertKeepsOrderAndPlaces(t *testing.T) {
	var text strings.Builder
	var want []string
	text.WriteString("id,name\n")
	for i := range 200_000 {
		fmt.Fprintf(&text, "%d,\"name, %d\"\n", i, i%1000)
		want = append(want, fmt.Sprintf("%d|name, %d", i, i%1000))
	}
	files(t, map[string]string{"in.csv": text.String()})
	report, err := Convert(t.Context(), conversion("out.parquet", "in.csv"), Budget{Workers: 4})
	if err != nil {
		t.Fatal(err)
	}
	if got := rows(t, "out.parquet"); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Error("rows are lost or out of order")
	}
	if report.RecordsRead != 200_000 || report.RowsWritten != 200_000 || report.Objects[0].RecordsRead != 200_000 || report.BytesUnpacked != int64(text.Len()) {
		t.Errorf("%+v", report)
	}
}

// TestLateValuesWiden puts values that no sample sees at the very end.
func TestLateValuesWiden(t *testing.T) {
	var csv, lines strings.Builder
	csv.WriteString("a,b,c,d\n")
	for i := range 400_000 {
		fmt.Fprintf(&csv, "%d,%d,,2031-05-01\n", i, i)
		fmt.Fprintf(&lines, `{"a":%d,"b":{"x":%d}}`+"\n", i, i)
	}
	csv.WriteString("2.5,x,7,2031-05-01 01:02:03\n")
	lines.WriteString(`{"a":2.5,"b":{"x":"y","z":[1]},"new":true}` + "\n")
	files(t, map[string]string{"in.csv": csv.String(), "in.ndjson": lines.String()})
	for source, want := range map[string]string{
		"in.csv":    "a double, b string, c long, d timestamp",
		"in.ndjson": "a double, b struct<x: string, z: list<long>>, new boolean",
	} {
		report, err := Convert(t.Context(), conversion(source+".parquet", source), DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		if got := types(t, source+".parquet"); got != want || !report.Rewritten || report.RowsWritten != 400_001 {
			t.Errorf("%s: %s, rewritten %v, %d rows", source, got, report.Rewritten, report.RowsWritten)
		}
	}
	if left, _ := filepath.Glob(".*partial*"); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}

// TestConvertFitsFullInference holds the schema of a convert against inference over everything, on random data.
func TestConvertFitsFullInference(t *testing.T) {
	values := []string{"", "1", "2.5", "x", "true", "2031-05-01", "2031-05-01 01:02:03", "007", "9007199254740993"}
	random := rand.New(rand.NewSource(8))
	for round := range 8 {
		contents := map[string]string{}
		for file := range 20 {
			var b strings.Builder
			b.WriteString("k,a,b,c\n")
			n := 9000
			for row := range n {
				at := func(usual int) string {
					if random.Intn(n*8) == 0 {
						return values[random.Intn(len(values))]
					}
					return values[usual]
				}
				fmt.Fprintf(&b, "%d,%s,%s,%s and some text to make it longer\n", row, at(1+round%3), at(round%len(values)), at(3))
			}
			contents[fmt.Sprintf("in/%02d.csv", file)] = b.String()
		}
		files(t, contents)
		inferred, err := Infer(t.Context(), Reading{Sources: []string{"in"}}, DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		var want []string
		for _, f := range inferred.Schema.Fields {
			want = append(want, f.Name+" "+f.Type.String())
		}
		if _, err := Convert(t.Context(), conversion("out.parquet", "in"), DefaultBudget()); err != nil {
			t.Fatal(err)
		}
		if got := types(t, "out.parquet"); got != strings.Join(want, ", ") {
			t.Errorf("round %d: %s, want %s", round, got, strings.Join(want, ", "))
		}
	}
}

func TestFilesJoinByName(t *testing.T) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	fmt.Fprint(w, "extra;id\nz;3\n")
	w.Close()
	files(t, map[string]string{"in/1.csv": "id,name\n1,a\n", "in/2.csv": "name,id\nb,2\n", "in/3.csv.gz": packed.String()})
	if _, err := Convert(t.Context(), conversion("out.parquet", "in"), DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	want := "1|a|(null);2|b|(null);3|(null)|z"
	if got := strings.Join(rows(t, "out.parquet"), ";"); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func TestRefusedConvertsLeaveNothing(t *testing.T) {
	files(t, map[string]string{"short.csv": "a,b\n1,2\n3\n", "bad.csv": "a,b\n1,2\nx,3\n", "note.txt": "old"})
	long := schema.Type{Kind: schema.Long}
	tests := []struct {
		c    Conversion
		kind fault.Kind
		want string
	}{
		{conversion("out.parquet", "short.csv"), fault.Input, `short.csv:3: the record has 1 field where 2 are expected; mend`},
		{Conversion{Reading: Reading{Sources: []string{"bad.csv"}, Types: map[string]schema.Type{"a": long}}, To: "out.parquet", Layout: layout.DefaultOptions}, fault.Schema,
			`bad.csv:3: column "a": "x" is not a long; mend the value, or keep the column as text with --type 'a=string'`},
		{Conversion{Reading: Reading{Sources: []string{"bad.csv"}, Types: map[string]schema.Type{"aa": long}}, To: "out.parquet", Layout: layout.DefaultOptions}, fault.Usage,
			`the nearest names are a, b`},
		{conversion("note.txt", "bad.csv"), fault.Usage, "not written yet"},
		{conversion("out.parquet", "none.csv"), fault.Storage, "there is no file"},
	}
	for _, test := range tests {
		_, err := Convert(t.Context(), test.c, DefaultBudget())
		if err == nil || fault.KindOf(err) != test.kind || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%v, want %q", err, test.want)
		}
	}
	kept, _ := filepath.Glob("quarantine-out-*.ndjson")
	if entries, err := os.ReadDir("."); err != nil || len(kept) != 2 || len(entries) != 5 {
		t.Errorf("%v, %v", entries, err)
	}
}

func TestConvertOverwritesOnlyWhenAsked(t *testing.T) {
	files(t, map[string]string{"in.csv": "a,b\n1,2\n3,4\n"})
	for _, to := range []string{"out.parquet", "folder/"} {
		c := conversion(to, "in.csv")
		if to == "folder/" {
			c.Partition = "a"
		}
		if _, err := Convert(t.Context(), c, DefaultBudget()); err != nil {
			t.Fatal(err)
		}
		if _, err := Convert(t.Context(), c, DefaultBudget()); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s is replaced: %v", to, err)
		}
		c.Overwrite = true
		if _, err := Convert(t.Context(), c, DefaultBudget()); err != nil {
			t.Error(err)
		}
	}
	if got := strings.Join(rows(t, "folder/a=1/00001.parquet", "folder/a=3/00002.parquet", "out.parquet"), " "); got != "1|2 3|4 1|2 3|4" {
		t.Errorf("%s", got)
	}
}

func TestCancelledRunsStop(t *testing.T) {
	files(t, map[string]string{"in.csv": "a,b\n" + strings.Repeat("1,2\n", 2_000_000)})
	ctx, cancel := context.WithCancel(t.Context())
	b := DefaultBudget()
	b.Events = func(e Event) {
		if e.Stage == "writing" {
			cancel()
		}
	}
	if _, err := Convert(ctx, conversion("out.parquet", "in.csv"), b); err == nil {
		t.Error("it went on")
	}
	if entries, _ := os.ReadDir("."); len(entries) != 1 {
		t.Errorf("%v is left", entries)
	}
}

func loading(t testing.TB, partition string, sources ...string) Loading {
	t.Helper()
	w, err := table.OpenWarehouse("warehouse")
	if err != nil {
		t.Fatal(err)
	}
	name, err := table.ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	return Loading{Reading: Reading{Sources: sources}, Warehouse: w, Into: name, Partition: partition, Layout: layout.DefaultOptions}
}

func tableRows(t testing.TB, l Loading) []string {
	t.Helper()
	found, err := l.Warehouse.Find(t.Context(), l.Into)
	if err != nil {
		t.Fatal(err)
	}
	list, err := found.Files(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, f := range list {
		paths = append(paths, f.Path)
	}
	return rows(t, paths...)
}

func TestLoadAppendsByName(t *testing.T) {
	files(t, map[string]string{"1.csv": "Sea Area,depth\nCairn Bay,1.5\n", "2.csv": "depth,sea_area\n2,The Narrows\n", "3.csv": "SEA AREA\nMarrow Deep\n",
		"4.csv": "Sea Area,depth,new\nx,1,2\n", "5.csv": "Sea Area,depth\nx,deep\n", "6.csv": "Sea Area,depth\nx,007\n"})
	for i, source := range []string{"1.csv", "2.csv", "3.csv"} {
		report, err := Load(t.Context(), loading(t, "", source), DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		if report.Created != (i == 0) || report.RowsWritten != 1 || report.SnapshotID == 0 {
			t.Errorf("%+v", report)
		}
	}
	want := "Cairn Bay|1.5 The Narrows|2 Marrow Deep|(null)"
	if got := strings.Join(tableRows(t, loading(t, "")), " "); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	for source, message := range map[string]string{
		"4.csv": `4.csv:1: column "new": is not a column of the table`,
		"5.csv": `5.csv:2: column "Sea Area"`,
		"6.csv": `"007" is not a double`,
	} {
		_, err := Load(t.Context(), loading(t, "", source), DefaultBudget())
		if source == "5.csv" {
			message = `"deep" is not a double`
		}
		if fault.KindOf(err) != fault.Schema || !strings.Contains(err.Error(), message) {
			t.Errorf("%s: %v, want %q", source, err, message)
		}
	}
	if got := strings.Join(tableRows(t, loading(t, "")), " "); got != want {
		t.Errorf("a refused load changed the table: %s", got)
	}
	l := loading(t, "", "6.csv")
	l.Types = map[string]schema.Type{"depth": {Kind: schema.Double}}
	if _, err := Load(t.Context(), l, DefaultBudget()); err != nil {
		t.Error(err)
	}
	if _, err := Load(t.Context(), loading(t, "depth", "1.csv"), DefaultBudget()); fault.KindOf(err) != fault.Usage {
		t.Errorf("another partitioning is taken: %v", err)
	}
}

func TestPartitionedLoadPutsRowsWhereTheyBelong(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, `{"at":"2031-0%d-1%dT0%d:00:00Z","area":%q,"n":%d}`+"\n", 1+i%3, i%10, i%7, []string{"a/b", "c d", ""}[i%3], i)
	}
	files(t, map[string]string{"in.ndjson": b.String()})
	report, err := Load(t.Context(), loading(t, "month(at),area,bucket(4,n)", "in.ndjson"), DefaultBudget())
	if err != nil || report.Partitions != 12 || report.DataFiles != 12 {
		t.Fatalf("%+v, %v", report, err)
	}
	if got := tableRows(t, loading(t, "")); len(got) != 5000 {
		t.Errorf("%d rows", len(got))
	}
	found, err := filepath.Glob("warehouse/ops/readings/data/at_month=2031-0?/area=*/n_bucket=?/*.parquet")
	if err != nil || len(found) != 12 {
		t.Errorf("%v", found)
	}
}

func TestSurplusIsKept(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,v\n")
	for i := range 600_000 {
		fmt.Fprintf(&b, "%d,x\n", i)
	}
	files(t, map[string]string{"few.csv": "id,v\n1,a,\"more, \"\"here\"\"\",\n2\nbad,c,d\n3,e\n", "late.csv": b.String() + "7,y,surplus\n", "plain.csv": "id,v\n9,z\n"})
	c := conversion("few.parquet", "few.csv")
	c.Stated.Pad, c.MaxBad.Count = true, 1
	c.Types = map[string]schema.Type{"id": {Kind: schema.Long}}
	if _, err := Convert(t.Context(), c, DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "few.parquet"), " ; "); got != `1|a|{"c3":"more, \"here\"","c4":""} ; 2|(null)|(null) ; 3|e|(null)` {
		t.Errorf("%s", got)
	}
	c = conversion("late.parquet", "late.csv")
	c.Stated.Pad = true
	report, err := Convert(t.Context(), c, DefaultBudget())
	if err != nil || !report.Rewritten {
		t.Fatalf("%+v, %v", report, err)
	}
	if all := rows(t, "late.parquet"); all[len(all)-1] != `7|y|{"c3":"surplus"}` || all[0] != "0|x|(null)" {
		t.Errorf("%s", all[len(all)-1])
	}
	l := loading(t, "", "few.csv")
	l.Stated.Pad, l.MaxBad, l.Types = true, Tolerance{Count: 1}, map[string]schema.Type{"id": {Kind: schema.Long}}
	for range 2 {
		if _, err := Load(t.Context(), l, DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := Load(t.Context(), loading(t, "", "plain.csv"), DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := tableRows(t, l); len(got) != 7 || got[6] != "9|z|(null)" || got[3] != got[0] {
		t.Errorf("%q", got)
	}
}

func TestXMLIsReadLikeJSON(t *testing.T) {
	files(t, map[string]string{
		"in/1.xml": "<?xml version='1.0' encoding='ISO-8859-1'?>\n<log>\n <e id='7'><v>1</v><note>caf\xe9</note></e>\n <e id='8'><v>2.5</v></e>\n</log>",
		"in/2.xml": "<log><e id='9'><v>3</v><v>4</v></e><e/></log>", "bad.xml": "<log><e/>\n<e></log>"})
	if _, err := Convert(t.Context(), conversion("out.parquet", "in"), DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "out.parquet"), " "); got != "7|[1]|café 8|[2.5]|(null) 9|[3,4]|(null) (null)|(null)|(null)" {
		t.Errorf("%s", got)
	}
	if _, err := Convert(t.Context(), conversion("bad.parquet", "bad.xml"), DefaultBudget()); fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), "bad.xml:2: is not well-formed XML") {
		t.Errorf("%v", err)
	}
}

func TestJSONDocumentsAreRead(t *testing.T) {
	files(t, map[string]string{"a.json": "{\n \"n\": 1, \"data\": [\n  {\"id\": 1},\n  {\"id\": 12345678901234567890, \"x\": {}},\n  {\"id\": 1, \"id\": 2},\n {\"id\": [}\n ]\n}",
		"b.json": "{\n \"id\": 3\n}\n{\n \"id\": 4\n}"})
	c := conversion("out.parquet", "a.json", "b.json")
	c.MaxBad = Tolerance{Count: 5}
	report, err := Convert(t.Context(), c, DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "out.parquet"), " "); got != "1|(null) 12345678901234567890|{} 3|(null) 4|(null)" || report.RecordsQuarantined < 2 {
		t.Errorf("%s, %+v", got, report.Counts)
	}
	if text, err := os.ReadFile(report.Quarantine); err != nil || !strings.Contains(string(text), `"line":5`) || !strings.Contains(string(text), "occurs twice") {
		t.Errorf("%s, %v", text, err)
	}
}

func TestLineageAndPathColumns(t *testing.T) {
	files(t, map[string]string{"in/year=2031/area=Cairn Bay/a.csv": "id,v\n1,x\n2\n3,y\nid,v\n4,z\n", "in/year=2032/area=7/b.csv": "v,id\nq,9\n"})
	c := conversion("out.parquet", "in")
	c.Lineage, c.PathColumns, c.MaxBad = true, "year={year}/area={sea area}/", Tolerance{Count: 1}
	before := time.Now().UTC()
	report, err := Convert(t.Context(), c, DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, row := range rows(t, "out.parquet") {
		cells := strings.Split(row, "|")
		at, err := time.Parse(time.RFC3339Nano, cells[len(cells)-1])
		if err != nil || at.Before(before.Add(-time.Second)) || at.After(time.Now().Add(time.Second)) {
			t.Errorf("loaded at %s: %v", cells[len(cells)-1], err)
		}
		got = append(got, strings.Join(cells[:len(cells)-1], "|"))
	}
	first, second := "in/year=2031/area=Cairn Bay/a.csv", "in/year=2032/area=7/b.csv"
	want := []string{"1|x|2031|Cairn Bay|" + first + "|1", "3|y|2031|Cairn Bay|" + first + "|3", "4|z|2031|Cairn Bay|" + first + "|4", "9|q|2032|7|" + second + "|1"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if want := "id long, v string, year long, sea_area string, _lineage_file string, _lineage_row long, _loaded_at timestamptz"; types(t, "out.parquet") != want {
		t.Errorf("%s", types(t, "out.parquet"))
	}
	if report.RecordsRead != 6 || report.RowsWritten != 4 || report.RecordsQuarantined != 1 || report.RecordsSkipped != 1 {
		t.Errorf("%+v", report.Counts)
	}
	for _, template := range []string{"month={month}/", "nothing"} {
		c.PathColumns, c.Overwrite = template, true
		if _, err := Convert(t.Context(), c, DefaultBudget()); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", template, err)
		}
	}
	l := loading(t, "", first)
	l.Lineage = true
	l.MaxBad.Count = 1
	for range 2 {
		if _, err := Load(t.Context(), l, DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	l.PathColumns = "year={year}/"
	if _, err := Load(t.Context(), l, DefaultBudget()); fault.KindOf(err) != fault.Schema {
		t.Errorf("a column that the table lacks: %v", err)
	}
}

// TestNestedRowsSurvivePartitioning holds rows with parts, taken apart by partition, against the same rows in one file.
func TestNestedRowsSurvivePartitioning(t *testing.T) {
	var b strings.Builder
	random := rand.New(rand.NewSource(6))
	for i := range 3000 {
		parts := []string{fmt.Sprintf(`"n":%d`, i)}
		if random.Intn(3) > 0 {
			parts = append(parts, fmt.Sprintf(`"pos":{"lat":%d.5}`, i))
		}
		if random.Intn(3) > 0 {
			parts = append(parts, fmt.Sprintf(`"list":[%s]`, strings.TrimSuffix(strings.Repeat(fmt.Sprintf(`{"v":%d,"t":["a%d"]},`, i, i%5), random.Intn(4)), ",")))
		}
		parts = append(parts, fmt.Sprintf(`"area":"area %d"`, random.Intn(40)))
		b.WriteString("{" + strings.Join(parts, ",") + "}\n")
	}
	files(t, map[string]string{"in.ndjson": b.String()})
	if _, err := Convert(t.Context(), conversion("one.parquet", "in.ndjson"), DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	c := conversion("many/", "in.ndjson")
	c.Partition, c.Layout.BudgetBytes, c.Layout.OpenFiles = "area", 20<<10, 3
	report, err := Convert(t.Context(), c, Budget{Workers: 2})
	if err != nil || report.Partitions != 40 {
		t.Fatalf("%+v, %v", report, err)
	}
	found, err := filepath.Glob("many/*/*.parquet")
	if err != nil {
		t.Fatal(err)
	}
	got, want := rows(t, found...), rows(t, "one.parquet")
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Error("rows differ")
	}
}

func TestSurveyExplains(t *testing.T) {
	files(t, map[string]string{"a.csv": "a,b\n1,2\n", "b.ndjson": "{\"a\":1}\n", "c.csv": "5,6\n7,8\n", "p/1.csv": "a,b\n1,2\n", "p/2.csv": "a,b\n"})
	for _, test := range []struct {
		sources []string
		want    string
	}{
		{[]string{"a.csv", "b.ndjson"}, "one run reads one format"},
		{[]string{"a.csv", "c.csv"}, "c.csv: seems to have no header"},
	} {
		if _, err := Survey(t.Context(), Reading{Sources: test.sources}); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%v: %v, want %q", test.sources, err, test.want)
		}
	}
	if s, err := Survey(t.Context(), Reading{Sources: []string{"p"}}); err != nil || !s.Inputs[1].Rules.Header {
		t.Errorf("a file of nothing but the header is not seen as one: %v", err)
	}
}

func TestPreview(t *testing.T) {
	files(t, map[string]string{"in/1.ndjson": "{\"a\":1,\"b\":{\"c\":null}}\n{\"a\":\"x\",\"z\":null}\nbroken\n", "in/2.ndjson": "{\"q\":true}\n"})
	p, err := PreviewSource(t.Context(), Reading{Sources: []string{"in"}}, 10)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(p.Columns, p.Rows); got != `[a b z q] [[{1 false false} {{"c":null} false false} { false true} { false true}] `+
		`[{x false false} { false true} { true false} { false true}] [{ false true} { false true} { false true} {true false false}]]` {
		t.Errorf("%s", got)
	}
	if len(p.Troubles) != 1 || !strings.Contains(p.Troubles[0], "1.ndjson:3") {
		t.Errorf("%q", p.Troubles)
	}
	if p, err = PreviewSource(t.Context(), Reading{Sources: []string{"in"}}, 1); err != nil || len(p.Rows) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
}

func BenchmarkConvert(b *testing.B) {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	text := "id,Buoy Code,Sea Area,kind,at,day,height (m),pressure,temp,ok,note,battery\n" + strings.Repeat(line, 100_000)
	files(b, map[string]string{"in.csv": text})
	c := conversion("out.parquet", "in.csv")
	c.Overwrite = true
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Convert(b.Context(), c, DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkInfer(b *testing.B) {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	text := "id,Buoy Code,Sea Area,kind,at,day,height (m),pressure,temp,ok,note,battery\n" + strings.Repeat(line, 100_000)
	files(b, map[string]string{"in.csv": text})
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := Infer(b.Context(), Reading{Sources: []string{"in.csv"}}, DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
}
