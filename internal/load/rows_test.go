package load_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/convert"
	"trevak/internal/fault"
	"trevak/internal/infer"
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

// reading reads sources from the disk.
func reading(sources ...string) infer.Reading {
	return infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: sources}}
}

// corrected converts a file with corrections.
func corrected(name string, c schema.Corrections) convert.Request {
	out := conversion("out.parquet", name)
	out.Corrections = c
	return out
}

func conversion(to string, sources ...string) convert.Request {
	return convert.Request{Task: write.Task{Reading: reading(sources...)}, To: to, Layout: layout.DefaultOptions}
}

// rows reads every row of Parquet files as text, in order.
func rows(t testing.TB, paths ...string) (out []string) {
	t.Helper()
	for _, path := range paths {
		f, err := columnar.Open(context.Background(), storage.Disk{}, path)
		if err != nil {
			t.Fatal(err)
		}
		err = f.Batches(t.Context(), func(b arrow.RecordBatch) error {
			for row := range int(b.NumRows()) {
				var cells []string
				for i, c := range b.Columns() {
					// The origin of rows is not one of their columns.
					if b.ColumnName(i) != table.OriginField.Name {
						cells = append(cells, c.ValueStr(row))
					}
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
	f, err := columnar.Open(context.Background(), storage.Disk{}, path)
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
	testfolder.Make(t, map[string]string{"in.csv": text.String()})
	report, err := convert.Convert(t.Context(), conversion("out.parquet", "in.csv"), run.Budget{Workers: 4})
	if err != nil {
		t.Fatal(err)
	}
	if got := rows(t, "out.parquet"); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Error("rows are lost or out of order")
	}
	if report.RecordsRead != 200_000 || report.RowsWritten != 200_000 || report.Objects[0].RecordsRead != 200_000 ||
		report.BytesUnpacked != int64(text.Len()) {
		t.Errorf("%+v", report)
	}
}

// TestLateValuesWiden puts values that no sample sees at the very end.
func TestLateValuesWiden(t *testing.T) {
	if testing.Short() {
		t.Skip("many loads")
	}
	var csv, lines strings.Builder
	csv.WriteString("a,b,c,d\n")
	for i := range 400_000 {
		fmt.Fprintf(&csv, "%d,%d,,2031-05-01\n", i, i)
		fmt.Fprintf(&lines, `{"a":%d,"b":{"x":%d}}`+"\n", i, i)
	}
	csv.WriteString("2.5,x,7,2031-05-01 01:02:03\n")
	lines.WriteString(`{"a":2.5,"b":{"x":"y","z":[1]},"new":true}` + "\n")
	testfolder.Make(t, map[string]string{"in.csv": csv.String(), "in.ndjson": lines.String()})
	for source, want := range map[string]string{
		"in.csv":    "a double, b string, c long, d timestamp",
		"in.ndjson": "a double, b struct<x: string, z: list<long>>, new boolean",
	} {
		report, err := convert.Convert(t.Context(), conversion(source+".parquet", source), run.DefaultBudget())
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
	if testing.Short() {
		t.Skip("many loads")
	}
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
		testfolder.Make(t, contents)
		inferred, err := infer.Infer(t.Context(), reading([]string{"in"}...), run.DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		var want []string
		for _, f := range inferred.Schema.Fields {
			want = append(want, f.Name+" "+f.Type.String())
		}
		if _, err := convert.Convert(t.Context(), conversion("out.parquet", "in"), run.DefaultBudget()); err != nil {
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
	testfolder.Make(t, map[string]string{"in/1.csv": "id,name\n1,a\n", "in/2.csv": "name,id\nb,2\n", "in/3.csv.gz": packed.String()})
	if _, err := convert.Convert(t.Context(), conversion("out.parquet", "in"), run.DefaultBudget()); err != nil {
		t.Fatal(err)
	}
	want := "1|a|(null);2|b|(null);3|(null)|z"
	if got := strings.Join(rows(t, "out.parquet"), ";"); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func TestRefusedConvertsLeaveNothing(t *testing.T) {
	testfolder.Make(t, map[string]string{"short.csv": "a,b\n1,2\n3\n", "bad.csv": "a,b\n1,2\nx,3\n", "note.txt": "old"})
	tests := []struct {
		c    convert.Request
		kind fault.Kind
		want string
	}{
		{conversion("out.parquet", "short.csv"), fault.Input, `short.csv:3: the record has 1 field where 2 are expected; mend`},
		{corrected("bad.csv", required("a", schema.Long)), fault.Schema,
			`bad.csv:3: column "a": "x" is not a long, and the column is required; mend the value, or keep the column as text with --type 'a=string'`},
		{corrected("bad.csv", pins("aa", schema.Long)), fault.Usage,
			`the nearest name is a`},
		{conversion("note.txt", "bad.csv"), fault.Usage, "files ending in .txt are not written; name a file"},
		{conversion("out.parquet", "none.csv"), fault.Storage, "there is no file"},
	}
	for _, test := range tests {
		_, err := convert.Convert(t.Context(), test.c, run.DefaultBudget())
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
	testfolder.Make(t, map[string]string{"in.csv": "a,b\n1,2\n3,4\n"})
	for _, to := range []string{"out.parquet", "folder/"} {
		c := conversion(to, "in.csv")
		if to == "folder/" {
			c.Partition = "a"
		}
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil {
			t.Fatal(err)
		}
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); fault.KindOf(err) != fault.Usage {
			t.Errorf("%s is replaced: %v", to, err)
		}
		c.Overwrite = true
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil {
			t.Error(err)
		}
	}
	if got := strings.Join(rows(t, "folder/a=1/00001.parquet", "folder/a=3/00002.parquet", "out.parquet"),
		" "); got != "1|2 3|4 1|2 3|4" {
		t.Errorf("%s", got)
	}
}

func TestSourcesAreNeverReplaced(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/a.csv": "a,b\n1,2\n", "x.parquet": "a,b\n1,2\n"})
	for to, from := range map[string]string{"out/": "out", "x.parquet": "x.parquet", "out": "out/a=1/00001.parquet"} {
		c := conversion("out/", "in/a.csv")
		c.Partition = "a"
		if _, err := os.Stat("out"); err != nil {
			if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil {
				t.Fatal(err)
			}
		}
		c = conversion(to, from)
		c.Overwrite = true
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); fault.KindOf(err) != fault.Usage ||
			!strings.Contains(err.Error(), "which would be replaced") {
			t.Errorf("%s to %s: %v", from, to, err)
		}
	}
	c := conversion("in/out/", "in")
	for range 2 {
		if _, err := convert.Convert(t.Context(), c, run.DefaultBudget()); err != nil && !c.Overwrite {
			t.Fatal(err)
		}
		c.Overwrite, c.Sources = true, []string{"in/a.csv"}
	}
	if text, err := os.ReadFile("in/a.csv"); err != nil || string(text) != "a,b\n1,2\n" {
		t.Errorf("%q, %v", text, err)
	}
}

func TestCancelledRunsStop(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "a,b\n" + strings.Repeat("1,2\n", 2_000_000)})
	ctx, cancel := context.WithCancel(t.Context())
	b := run.DefaultBudget()
	b.Events = func(e run.Event) {
		if e.Stage == "writing" {
			cancel()
		}
	}
	if _, err := convert.Convert(ctx, conversion("out.parquet", "in.csv"), b); err == nil {
		t.Error("it went on")
	}
	if entries, _ := os.ReadDir("."); len(entries) != 1 {
		t.Errorf("%v is left", entries)
	}
}

func loading(t testing.TB, partition string, sources ...string) load.Request {
	t.Helper()
	w, err := table.OpenWarehouse(storage.Disk{}, "warehouse")
	if err != nil {
		t.Fatal(err)
	}
	name, err := table.ParseName("ops.readings")
	if err != nil {
		t.Fatal(err)
	}
	return load.Request{Task: write.Task{Reading: reading(sources...)}, Again: true, Warehouse: w, Into: name, Partition: partition,
		Layout: layout.DefaultOptions}
}

func tableRows(t testing.TB, l load.Request) []string {
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
		paths = append(paths, f.URI)
	}
	return rows(t, paths...)
}

func TestLoadAppendsByName(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": "Sea Area,depth\nCairn Bay,1.5\n", "2.csv": "depth,sea_area\n2,The Narrows\n",
		"3.csv": "SEA AREA\nMarrow Deep\n",
		"4.csv": "Sea Area,depth,new\nx,1,2\n", "5.csv": "Sea Area,depth\nx,deep\n", "6.csv": "Sea Area,depth\nx,007\n"})
	for i, source := range []string{"1.csv", "2.csv", "3.csv"} {
		report, err := load.Load(t.Context(), loading(t, "", source), run.DefaultBudget())
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
	for source, message := range map[string]string{"2.csv": "column Sea_Area is written sea_area", "3.csv": "in 2 ways",
		"4.csv": "column new is new, long",
		"5.csv": "column depth has values that are not double, in 1 record, first at 5.csv:2: \"deep\"",
		"6.csv": "values that are not double"} {
		l := loading(t, "", source)
		l.Drift = load.Stop
		_, err := load.Load(t.Context(), l, run.DefaultBudget())
		if fault.KindOf(err) != fault.Schema || !strings.Contains(err.Error(), message) {
			t.Errorf("%s: %v, want %q", source, err, message)
		}
	}
	if got := strings.Join(tableRows(t, loading(t, "")), " "); got != want {
		t.Errorf("a refused load changed the table: %s", got)
	}
	l := loading(t, "", "6.csv")
	l.Corrections = pins("depth", schema.Double)
	if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
		t.Error(err)
	}
	if _, err := load.Load(t.Context(), loading(t, "depth", "1.csv"), run.DefaultBudget()); fault.KindOf(err) != fault.Usage {
		t.Errorf("another partitioning is taken: %v", err)
	}
}

// TestNestedRowsSurvivePartitioning holds rows with parts, taken apart by partition, against the same rows in one file.
func BenchmarkConvert(b *testing.B) {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	text := "id,Buoy Code,Sea Area,kind,at,day,height (m),pressure,temp,ok,note,battery\n" + strings.Repeat(line, 100_000)
	testfolder.Make(b, map[string]string{"in.csv": text})
	c := conversion("out.parquet", "in.csv")
	c.Overwrite = true
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := convert.Convert(b.Context(), c, run.DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkInfer(b *testing.B) {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	text := "id,Buoy Code,Sea Area,kind,at,day,height (m),pressure,temp,ok,note,battery\n" + strings.Repeat(line, 100_000)
	testfolder.Make(b, map[string]string{"in.csv": text})
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := infer.Infer(b.Context(), reading([]string{"in.csv"}...), run.DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
}

// pins fixes the type of a column, required makes it one that always has a value, too.
func pins(column string, k schema.Kind) schema.Corrections {
	return schema.Corrections{Types: map[string]schema.Stated{column: {Type: schema.Type{Kind: k}}}}
}

func required(column string, k schema.Kind) schema.Corrections {
	c := pins(column, k)
	c.Required = []string{column}
	return c
}
