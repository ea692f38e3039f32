package load_test

import (
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"trevak/internal/convert"
	"trevak/internal/fault"
	"trevak/internal/inspect"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

func TestPartitionedLoadPutsRowsWhereTheyBelong(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, `{"at":"2031-0%d-1%dT0%d:00:00Z","area":%q,"n":%d}`+"\n", 1+i%3, i%10, i%7, []string{"a/b", "c d", ""}[i%3], i)
	}
	testfolder.Make(t, map[string]string{"in.ndjson": b.String()})
	report, err := load.Load(t.Context(), loading(t, "month(at),area,bucket(4,n)", "in.ndjson"), run.DefaultBudget())
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
	testfolder.Make(t, map[string]string{"few.csv": "id,v\n1,a,\"more, \"\"here\"\"\",\n2\nbad,c,d\n3,e\n", "late.csv": b.String() +
		"7,y,surplus\n", "plain.csv": "id,v\n9,z\n"})
	c := conversion("few.parquet", "few.csv")
	c.Stated.Pad, c.Tolerate.Count = true, 1
	c.Corrections = required("id", schema.Long)
	if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "few.parquet"), " ; "); got != `1|a|{"c3":"more, \"here\"","c4":""} ; 2|(null)|(null) ; 3|e|(null)` {
		t.Errorf("%s", got)
	}
	c = conversion("late.parquet", "late.csv")
	c.Stated.Pad = true
	report, err := convert.Convert(t.Context(), c, run.DefaultBudget())
	if err != nil || !report.Rewritten {
		t.Fatalf("%+v, %v", report, err)
	}
	if all := rows(t, "late.parquet"); all[len(all)-1] != `7|y|{"c3":"surplus"}` || all[0] != "0|x|(null)" {
		t.Errorf("%s", all[len(all)-1])
	}
	l := loading(t, "", "few.csv")
	l.Stated.Pad, l.Tolerate, l.Corrections = true, write.Tolerance{Count: 1}, required("id", schema.Long)
	for range 2 {
		if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := load.Load(t.Context(), loading(t, "", "plain.csv"), run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := tableRows(t, l); len(got) != 7 || got[6] != "9|z|(null)" || got[3] != got[0] {
		t.Errorf("%q", got)
	}
}

func TestCutDocumentsAreNamed(t *testing.T) {
	testfolder.Make(t, map[string]string{"cut.json": "{\n\"rows\": [\n{\"a\": 1},\n{\"a\": 2}"})
	if _, err := convert.Convert(t.Context(), conversion("out.parquet", "cut.json"),
		run.DefaultBudget()); fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), "cut.json: ends before its objects") {
		t.Errorf("%v", err)
	}
}

func TestUnwritableQuarantineHidesNothing(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "a,b\n1,2\n3\n4\n"})
	c := conversion("out.parquet", "in.csv")
	c.Quarantine = filepath.Join("no", "such", "folder", "q.ndjson")
	_, err := convert.Convert(t.Context(), c, run.DefaultBudget())
	var refusal *write.Refusal
	if !errors.As(err, &refusal) || refusal.Bad != 2 || refusal.Unkept == nil || !strings.Contains(err.Error(), "in.csv:3") {
		t.Errorf("%v, %+v", err, refusal)
	}
	c.Tolerate = write.Tolerance{Count: 5}
	if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); fault.KindOf(err) != fault.Storage {
		t.Errorf("tolerated records vanish: %v", err)
	}
}

func TestXMLIsReadLikeJSON(t *testing.T) {
	testfolder.Make(t, map[string]string{
		"in/1.xml": "<?xml version='1.0' encoding='ISO-8859-1'?>\n<log>\n <e id='7'><v>1</v><note>caf\xe9</note></e>\n <e " +
			"id='8'><v>2.5</v></e>\n</log>",
		"in/2.xml": "<log><e id='9'><v>3</v><v>4</v></e><e/></log>", "bad.xml": "<log><e/>\n<e></log>"})
	if _, err := convert.Convert(t.Context(), conversion("out.parquet", "in"), run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "out.parquet"), " "); got != "7|[1]|café 8|[2.5]|(null) 9|[3,4]|(null) (null)|(null)|(null)" {
		t.Errorf("%s", got)
	}
	if _, err := convert.Convert(t.Context(), conversion("bad.parquet", "bad.xml"),
		run.DefaultBudget()); fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), "bad.xml:2: is not well-formed XML") {
		t.Errorf("%v", err)
	}
}

func TestJSONDocumentsAreRead(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.json": "{\n \"n\": 1, \"data\": [\n  {\"id\": 1},\n  {\"id\": 12345678901234567890, " +
		"\"x\": {}},\n  {\"id\": 1, \"id\": 2},\n {\"id\": [5 6]}\n ]\n}",
		"b.json": "{\n \"id\": 3\n}\n{\n \"id\": 4\n}"})
	c := conversion("out.parquet", "a.json", "b.json")
	c.Tolerate = write.Tolerance{Count: 5}
	report, err := convert.Convert(t.Context(), c, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(rows(t, "out.parquet"), " "); got != "1|(null) 12345678901234567890|{} 3|(null) 4|(null)" ||
		report.RecordsQuarantined < 2 {
		t.Errorf("%s, %+v", got, report.Counts)
	}
	if text, err := os.ReadFile(report.Quarantine); err != nil || !strings.Contains(string(text), `"line":5`) ||
		!strings.Contains(string(text), "occurs twice") {
		t.Errorf("%s, %v", text, err)
	}
}

func TestLineageAndPathColumns(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/year=2031/area=Cairn Bay/a.csv": "id,v\n1,x\n2\n3,y\nid,v\n4,z\n",
		"in/year=2032/area=7/b.csv": "v,id\nq,9\n"})
	c := conversion("out.parquet", "in")
	c.Lineage, c.PathColumns, c.Tolerate = true, "year={year}/area={sea area}/", write.Tolerance{Count: 1}
	before := time.Now().UTC()
	report, err := convert.Convert(t.Context(), c, run.DefaultBudget())
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
	want := []string{"1|x|2031|Cairn Bay|" + first + "|1", "3|y|2031|Cairn Bay|" + first + "|3", "4|z|2031|Cairn Bay|" + first + "|4",
		"9|q|2032|7|" + second + "|1"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if want := "id long, v string, year long, sea_area string, _lineage_file string, _lineage_row long, _loaded_at timestamptz"; types(t,
		"out.parquet") != want {
		t.Errorf("%s", types(t, "out.parquet"))
	}
	if report.RecordsRead != 6 || report.RowsWritten != 4 || report.RecordsQuarantined != 1 || report.RecordsSkipped != 1 {
		t.Errorf("%+v", report.Counts)
	}
	for _, template := range []string{"month={month}/", "nothing"} {
		c.PathColumns, c.Overwrite = template, true
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s: %v", template, err)
		}
	}
	l := loading(t, "", first)
	l.Lineage = true
	l.Tolerate.Count = 1
	for range 2 {
		if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
			t.Fatal(err)
		}
	}
	l.PathColumns, l.Drift = "year={year}/", load.Hold
	if _, err := load.Load(t.Context(), l, run.DefaultBudget()); fault.KindOf(err) != fault.Schema {
		t.Errorf("a column that the table lacks: %v", err)
	}
	l.Drift = load.Grow
	if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
		t.Errorf("a table that may grow does not get the column: %v", err)
	}
}

func TestNestedRowsSurvivePartitioning(t *testing.T) {
	var b strings.Builder
	random := rand.New(rand.NewSource(6))
	for i := range 3000 {
		parts := []string{fmt.Sprintf(`"n":%d`, i)}
		if random.Intn(3) > 0 {
			parts = append(parts, fmt.Sprintf(`"pos":{"lat":%d.5}`, i))
		}
		if random.Intn(3) > 0 {
			parts = append(parts, fmt.Sprintf(`"list":[%s]`,
				strings.TrimSuffix(strings.Repeat(fmt.Sprintf(`{"v":%d,"t":["a%d"]},`, i, i%5), random.Intn(4)), ",")))
		}
		parts = append(parts, fmt.Sprintf(`"area":"area %d"`, random.Intn(40)))
		b.WriteString("{" + strings.Join(parts, ",") + "}\n")
	}
	testfolder.Make(t, map[string]string{"in.ndjson": b.String()})
	if _, err := convert.Convert(t.Context(), conversion("one.parquet", "in.ndjson"), run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	c := conversion("many/", "in.ndjson")
	c.Partition, c.Layout.BudgetBytes, c.Layout.OpenFiles = "area", 20<<10, 3
	report, err := convert.Convert(t.Context(), c, run.Budget{Workers: 2})
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
	testfolder.Make(t, map[string]string{"a.csv": "a,b\n1,2\n", "b.ndjson": "{\"a\":1}\n", "c.csv": "5,6\n7,8\n", "p/1.csv": "a,b\n1,2\n",
		"p/2.csv": "a,b\n"})
	for _, test := range []struct {
		sources []string
		want    string
	}{
		{[]string{"a.csv", "b.ndjson"}, "one run reads one format"},
		{[]string{"a.csv", "c.csv"}, "c.csv: seems to have no header"},
	} {
		if _, err := source.Survey(t.Context(), source.Reading{Store: storage.Disk{}, Sources: test.sources}); err == nil ||
			!strings.Contains(err.Error(), test.want) {
			t.Errorf("%v: %v, want %q", test.sources, err, test.want)
		}
	}
	if s, err := source.Survey(t.Context(), source.Reading{Store: storage.Disk{}, Sources: []string{"p"}}); err != nil ||
		!s.Inputs[1].Rules.Header {
		t.Errorf("a file of nothing but the header is not seen as one: %v", err)
	}
}

func TestPreview(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/1.ndjson": "{\"a\":1,\"b\":{\"c\":null}}\n{\"a\":\"x\",\"z\":null}\nbroken\n",
		"in/2.ndjson": "{\"q\":true}\n"})
	mixed := reading("in")
	mixed.Mixed = true
	p, err := inspect.PreviewSource(t.Context(), mixed, 10)
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(p.Columns, p.Rows); got != `[a b z q] [[{1 false false true} {{"c":null} false false true} { false true false} { false true false}] `+
		`[{x false false false} { false true false} { true false false} { false true false}] [{ false true false} { false true false} { false true false} `+
		`{true false false true}]]` {
		t.Errorf("%s", got)
	}
	if len(p.Troubles) != 1 || !strings.Contains(p.Troubles[0], "1.ndjson:3") {
		t.Errorf("%q", p.Troubles)
	}
	if p, err = inspect.PreviewSource(t.Context(), mixed, 1); err != nil || len(p.Rows) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
}
