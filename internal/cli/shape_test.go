package cli

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

const (
	nestedDay = `{"id":1,"buoy":{"code":"OS-1","position":{"lat":57.5,"lon":-5}},"readings":[{"sensor":"depth","value":3.5},{"sensor":"temp","value":9}],"crew":["Ina","Bo"]}
{"id":2,"buoy":{"code":"OS-2","position":null},"readings":[],"crew":["Cy"]}
{"id":3,"buoy":{"code":"OS-3","position":{"lat":58.25,"lon":-6}},"readings":[{"sensor":"depth","value":12.25}],"crew":null}
`
	nextDay = `{"id":4,"buoy":{"code":"OS-1","position":{"lat":57.5,"lon":-5},"maker":"Tarn"},"readings":[{"sensor":"depth","value":1.5},{"sensor":"hail","value":"much"}],"crew":[]}
`
)

// TestFormsOfRows gives nested records other forms in every command that takes them.
func TestFormsOfRows(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay, "2.ndjson": nextDay, "plain.csv": "a,b\n1,x\n2,\n3,z\n"})
	must(t, []string{"preview", "1.ndjson", "--nested", "flatten", "--unnest", "readings", "--unnest-index"}, "buoy_position_lat",
		"readings_index", "readings_sensor", "12.25")
	must(t, []string{"infer", "1.ndjson", "--nested", "flatten", "--unnest", "readings"}, "4 records", "buoy_position_lon",
		"readings_value", "double")
	must(t, []string{"infer", "1.ndjson"}, "readings  0 to 2 elements, median 1; --unnest readings makes 4 rows of 3 records",
		"crew      1 to 2 elements, median 1; --unnest crew makes 4 rows of 3 records", "67%")
	must(t, []string{"convert", "1.ndjson", "--to", "out.ndjson", "--where", "buoy.position.lat > 58", "--unnest", "readings", "--nested",
		"flatten",
		"--derive", "depth_ft = readings_value * 3", "--only", "id,buoy,readings", "--rename", "buoy_code=code"},
		"3 read = 1 kept + 2 filtered + 0 quarantined + 0 skipped; those kept made 1 row")
	if got, want := readFile(t,
		"out.ndjson"), `{"id":3,"code":"OS-3","buoy_position_lat":58.25,"buoy_position_lon":-6,"readings_sensor":"depth","readings_value":12.25,"depth_ft":36.75}`; strings.TrimSpace(got) != want {
		t.Errorf("%s, want %s", got, want)
	}
	must(t, []string{"convert", "plain.csv", "--to", "plain.ndjson", "--where", "b IS NOT NULL", "--derive", "a = a + 1", "--nest",
		"both=a,b"}, "3 read = 2 kept + 1 filtered")
	if got := readFile(t, "plain.ndjson"); got != "{\"both\":{\"a\":2,\"b\":\"x\"}}\n{\"both\":{\"a\":4,\"b\":\"z\"}}\n" {
		t.Error(got)
	}

	form := []string{"--nested", "flatten", "--unnest", "readings", "--lists", "json"}
	must(t, append([]string{"load", "1.ndjson", "--into", "ops.readings", "--lineage"}, form...), "3 read = 3 kept",
		"those kept made 4 rows")
	must(t, append([]string{"load", "2.ndjson", "--into", "ops.readings", "--lineage"}, form...), "added", "buoy_maker", "unfit",
		"readings_value", "2.ndjson:1", "much")
	must(t, []string{"preview", "ops.readings"}, `["Ina","Bo"]`, "Tarn", `{"readings_value":"much"}`)
	refused(t, 3, append([]string{"load", "1.ndjson", "--again", "--into", "ops.readings", "--drift", "stop"}, form...),
		"--drift stop refuses any difference")
}

// TestOneOrMany reads lists that are sometimes a single value, and values that have nothing to do with each other.
func TestOneOrMany(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": `{"id":1,"tags":["a","b"],"r":[{"v":1},{"v":2.5}],"m":[1],"n":[],"d":[1]}
{"id":2,"tags":"c","r":{"v":3,"w":"x"},"m":"text","n":"y","d":0.5}
{"id":3,"tags":null,"r":[],"m":{"z":1},"n":null,"d":[]}
`, "2.ndjson": `{"id":4,"tags":"d","r":{"v":9},"d":7}`})
	must(t, []string{"convert", "1.ndjson", "--to", "out.ndjson"}, "3 read = 3 written")
	if got, want := readFile(t, "out.ndjson"), `{"id":1,"tags":["a","b"],"r":[{"v":1,"w":null},{"v":2.5,"w":null}],"m":"[1]","n":[],"d":[1]}
{"id":2,"tags":["c"],"r":[{"v":3,"w":"x"}],"m":"text","n":["y"],"d":[0.5]}
{"id":3,"tags":null,"r":[],"m":"{\"z\":1}","n":null,"d":[]}
`; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	must(t, []string{"load", "1.ndjson", "--into", "ops.many"}, "3 read = 3 written")
	must(t, []string{"load", "2.ndjson", "--into", "ops.many", "--drift", "hold"}, "1 read = 1 written")
	must(t, []string{"preview", "ops.many"}, `["d"]`, `[{"v":9,"w":null}]`, "[7]")
}

// TestRawRecords keeps records as they were read beside the columns.
func TestRawRecords(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay + "{\"id\":\n", "1.csv": "a,\"b \"\"q\"\"\"\n1,x\n,\"\"\n3\n"})
	must(t, []string{"convert", "1.csv", "--to", "csv.ndjson", "--keep-raw", "--ragged", "pad"}, "3 read = 3 written")
	if got, want := readFile(t, "csv.ndjson"), `{"a":1,"b_q":"x","_raw":"{\"a\":\"1\",\"b \\\"q\\\"\":\"x\"}"}
{"a":null,"b_q":"","_raw":"{\"a\":null,\"b \\\"q\\\"\":\"\"}"}
{"a":3,"b_q":null,"_raw":"{\"a\":\"3\",\"b \\\"q\\\"\":null}"}
`; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	must(t, []string{"convert", "1.ndjson", "--to", "out.ndjson", "--keep-raw", "--unnest", "crew", "--only", "id,crew", "--tolerate",
		"1"}, "4 read = 3 kept", "1 quarantined", "4 rows")
	lines := strings.Split(nestedDay, "\n")
	for i, record := range []int{0, 0, 1, 2} {
		var row struct {
			Raw string `json:"_raw"`
		}
		decode(t, strings.Split(readFile(t, "out.ndjson"), "\n")[i], &row)
		if row.Raw != lines[record] {
			t.Errorf("row %d comes of %s, not of %s", i, row.Raw, lines[record])
		}
	}
	must(t, []string{"convert", "1.csv", "--to", "1.parquet", "--ragged", "pad"}, "")
	refused(t, 2, []string{"convert", "1.parquet", "--to", "2.parquet", "--keep-raw"}, "columnar files have none")
}

// TestRowsAndBack makes rows of lists, and lists of the rows again, in blocks so small that most lists lie in several.
func TestRowsAndBack(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 1))
	var docs strings.Builder
	for id := range 300 {
		var readings []string
		for range random.IntN(7) {
			readings = append(readings, fmt.Sprintf(`{"sensor":"s%d","value":%d}`, random.IntN(3), random.IntN(4)))
		}
		list := []string{"null", "[]"}[id%2]
		if readings != nil {
			list = "[" + strings.Join(readings, ",") + "]"
		}
		fmt.Fprintf(&docs, `{"id":%d,"area":"a%d","readings":%s}`+"\n", id, random.IntN(2), list)
	}
	testfolder.Make(t, map[string]string{"docs.ndjson": docs.String(),
		"more.ndjson": strings.ReplaceAll(docs.String(), `"id":`, `"id":1`)})
	must(t, []string{"convert", "docs.ndjson", "more.ndjson", "--to", "rows.csv", "--unnest", "readings", "--nested", "flatten",
		"--unnest-index", "--unnest-count", "--max-record", "500"}, "600 read = 600 kept")
	must(t, []string{"convert", "rows.csv", "--to", "back.ndjson", "--nest-rows", "readings=readings_sensor,readings_value",
		"--max-record", "250"}, "those kept made 600 rows")
	if got, want := readFile(t, "back.ndjson"), docs.String()+strings.ReplaceAll(docs.String(), `"id":`, `"id":1`); got != want {
		t.Errorf("%d bytes came back of %d: %.300s", len(got), len(want), got)
	}
	must(t, []string{"load", "rows.csv", "--into", "ops.back", "--nest-rows", "readings=readings_sensor,readings_value", "--max-record",
		"250", "--lineage"}, "those kept made 600 rows")
	r := must(t, []string{"preview", "ops.back", "-n", "600", "-o", "json"}, "")
	var p struct{ Records []map[string]cell }
	decode(t, r.out, &p)
	if len(p.Records) != 600 {
		t.Fatalf("%d rows were loaded", len(p.Records))
	}
	line := 1
	for i, row := range p.Records {
		if got := row["_lineage_row"]; string(got) != fmt.Sprint(line) {
			t.Fatalf("row %d comes of record %s, not of %d", i, got, line)
		}
		line += max(1, strings.Count(string(row["readings"]), "sensor"))
	}
	refused(t, 2, []string{"preview", "rows.csv", "--unnest-count"}, "are for --unnest; name a list")
	refused(t, 2, []string{"preview", "rows.csv", "--nest-rows", "x=id,nothing"}, `--nest-rows names "nothing"`)
	refused(t, 2, []string{"preview", "rows.csv", "--nest-rows", "id=area"}, "have a column of that name already")
	refused(t, 2, []string{"preview", "rows.csv", "--nest-rows", "x"}, "write it like --nest-rows")
}

// TestRowsThatStandApart makes rows of lists, puts them out of order, and makes lists of them by their key.
func TestRowsThatStandApart(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 2))
	var docs strings.Builder
	records := map[string]bool{}
	for id := range 400 {
		var readings []string
		for range 1 + random.IntN(7) {
			readings = append(readings, fmt.Sprintf(`{"sensor":"s%d","value":%d}`, random.IntN(3), random.IntN(4)))
		}
		record := fmt.Sprintf(`{"id":%d,"area":"a%d","readings":[%s]}`, id, random.IntN(2), strings.Join(readings, ","))
		records[record] = true
		docs.WriteString(record + "\n")
	}
	testfolder.Make(t, map[string]string{"docs.ndjson": docs.String()})
	must(t, []string{"convert", "docs.ndjson", "--to", "rows.csv", "--unnest", "readings", "--nested", "flatten", "--unnest-index"},
		"400 read = 400 kept")
	header, rest, _ := strings.Cut(readFile(t, "rows.csv"), "\n")
	lines := strings.Split(strings.TrimSpace(rest), "\n")
	random.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	if err := os.WriteFile("apart.csv", []byte(header+"\n"+strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	list := []string{"--nest-rows", "readings=readings_sensor,readings_value"}
	keyed := append(list, "--nest-key", "id")

	must(t, append([]string{"convert", "apart.csv", "--to", "back.ndjson", "--max-record", "250"}, keyed...), "those kept made 400 rows")
	if got := readFile(t, "back.ndjson"); got != docs.String() {
		t.Errorf("came back as %.300s", got)
	}
	must(t, append([]string{"convert", "apart.csv", "--to", "by-area.ndjson"}, append(list, "--nest-key", "area,id")...),
		"those kept made 400 rows")
	for line := range strings.Lines(readFile(t, "by-area.ndjson")) {
		if !records[strings.TrimSpace(line)] {
			t.Fatalf("%s is none of the records", line)
		}
	}
	if r := must(t, append([]string{"convert", "apart.csv", "--to", "as-they-stand.ndjson"}, list...), ""); strings.Contains(r.out,
		"; 400 rows") {
		t.Error("without a key, rows that stand apart went together too")
	}

	// A row tells the first of the records that it came of, in the order in which they are brought together.
	must(t, append([]string{"load", "apart.csv", "--into", "ops.apart", "--max-record", "250", "--lineage", "--keep-raw"}, keyed...),
		"those kept made 400 rows")
	r := must(t, []string{"preview", "ops.apart", "-n", "400", "-o", "json"}, "")
	var p struct{ Records []map[string]cell }
	decode(t, r.out, &p)
	for _, row := range p.Records {
		at, err := strconv.Atoi(string(row["_lineage_row"]))
		if fields := strings.Split(lines[at-1], ","); err != nil || cell(fields[0]) != row["id"] ||
			!strings.Contains(string(row["_raw"]), `"id":"`+string(row["id"])+`"`) {
			t.Fatalf("the row of id %s tells of record %d, %q, and keeps %s", row["id"], at, lines[at-1], row["_raw"])
		}
	}
	for args, want := range map[string]string{"nothing": `--nest-key names "nothing"`,
		"readings_value": "is not among the columns that stay", "id,id": `names "id" twice`} {
		refused(t, 2, append([]string{"preview", "apart.csv", "--nest-key", args}, list...), want)
	}
	refused(t, 2, []string{"preview", "apart.csv", "--nest-key", "id"}, "--nest-key is for --nest-rows")
}

// TestListsIntoTables splits lists off, and finishes a load of which one commit is missing.
func TestListsIntoTables(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay, "2.ndjson": nextDay, "clash.ndjson": `{"id":1,"list":[{"id":2}]}`,
		"bad.ndjson": "{\"id\":1,\"a\":[1,2]}\n{bad\n{\"id\":3,\"a\":[3]}\n"})
	split := []string{"--into", "ops.visits", "--split", "readings=ops.readings", "--split", "crew=ops.crew"}
	must(t, append([]string{"load", "1.ndjson", "--dry-run"}, split...), "nothing was written")
	if _, err := os.Stat("warehouse"); err == nil {
		t.Error("a dry run wrote something")
	}
	must(t, append([]string{"load", "1.ndjson"}, split...), "ops.visits (new table)", "ops.readings (new table)",
		"those kept made 3 rows", "ops.crew (new table)")
	must(t, []string{"preview", "ops.visits"}, "1.ndjson:2", "_parent_id")
	must(t, []string{"preview", "ops.readings"}, "_position", "12.25", "1.ndjson:3")
	must(t, []string{"preview", "ops.crew"}, "Cy")
	before := listing(t, "warehouse")
	must(t, append([]string{"load", "1.ndjson"}, split...), "nothing new")
	if listing(t, "warehouse") != before {
		t.Error("a load that was there already changed something")
	}

	// What a load leaves that ended between two commits.
	if err := os.RemoveAll("warehouse/ops/crew"); err != nil {
		t.Fatal(err)
	}
	must(t, append([]string{"load", "1.ndjson"}, split...), "ops.visits: the rows were there already",
		"ops.readings: the rows were there already", "ops.crew (new table)")
	must(t, []string{"tables"}, "ops.visits       3", "ops.readings     3", "ops.crew         3")
	must(t, append([]string{"load", "2.ndjson"}, split...), "added", "unfit", "value")
	must(t, []string{"tables"}, "ops.visits       4", "ops.readings     5", "ops.crew         3")
	// What was loaded without its lists has these alone added by a load that splits them off.
	must(t, []string{"load", "1.ndjson", "--into", "ops.whole", "--drop", "readings,crew"}, "ops.whole (new table)")
	must(t, []string{"load", "1.ndjson", "2.ndjson", "--into", "ops.whole", "--split", "readings=ops.parts"}, "1 known, 1 new, 0 changed",
		"ops.parts (new table)")
	must(t, []string{"tables"}, "ops.whole        4", "ops.parts        5")

	must(t, []string{"load", "1.ndjson", "--into", "ops.keyed", "--key", "id", "--split", "readings=ops.keyed_readings", "--nested",
		"flatten"}, "those kept made 3 rows")
	must(t, []string{"preview", "ops.keyed"}, "buoy_position_lat", `["Ina","Bo"]`)
	must(t, []string{"schema", "ops.keyed_readings"}, "id", "_position", "sensor")
	must(t, []string{"load", "bad.ndjson", "--into", "ops.bad", "--split", "a=ops.bad_a", "--tolerate", "1"}, "2 kept", "1 quarantined",
		"those kept made 3 rows")
	if kept, err := filepath.Glob("quarantine-*"); err != nil || len(kept) != 1 {
		t.Errorf("the bad record is kept in %v, %v", kept, err)
	}
	refused(t, 2, []string{"load", "clash.ndjson", "--into", "a.b", "--key", "id", "--split", "list=a.c"},
		`its elements have a member "id", as the key of its records`)
	refused(t, 2, []string{"load", "1.ndjson", "--into", "a.b", "--split", "reading=a.c"}, "the nearest name is readings")
	refused(t, 2, []string{"load", "1.ndjson", "--into", "a.b", "--split", "readings=a.b"}, "is named twice")
	refused(t, 2, []string{"load", "1.ndjson", "--into", "a.b", "--split", "readings"}, "write it like --split readings=ops.readings")
}

// TestRowsMultiply makes rows of lists that have nothing to do with each other.
func TestRowsMultiply(t *testing.T) {
	long := strings.TrimSuffix(strings.Repeat("1,", 12), ",")
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay,
		"long.ndjson": fmt.Sprintf("{\"id\":1,\"a\":[1],\"b\":[2]}\n{\"id\":2,\"a\":[%s],\"b\":[%s]}\n", long, long)})
	r := must(t, []string{"convert", "1.ndjson", "--to", "out.csv", "--unnest", "readings", "--unnest", "crew", "--nested", "flatten"},
		"those kept made 6 rows")
	if !strings.Contains(r.err, "make 6 rows of 3 records, at most 4 rows of one record (1.ndjson:1)") {
		t.Error(r.err)
	}
	refused(t, 2, []string{"convert", "long.ndjson", "--to", "long.parquet", "--unnest", "a", "--unnest", "b"},
		"make 145 rows of 2 records, at most 144 rows of one record (long.ndjson:2); go through the lists side by side with --unnest "+
			"a,b, or confirm it with --confirm-multiply")
	must(t, []string{"convert", "long.ndjson", "--to", "long.parquet", "--unnest", "a", "--unnest", "b", "--confirm-multiply"},
		"145 rows")
	must(t, []string{"convert", "long.ndjson", "--to", "pairs.parquet", "--unnest", "a,b"}, "13 rows")
}

// TestFormsOfColumnarRows gives the rows of Parquet files the forms that those of text get.
func TestFormsOfColumnarRows(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay, "2.ndjson": nextDay})
	must(t, []string{"convert", "1.ndjson", "--to", "files/1.parquet"}, "")
	must(t, []string{"convert", "2.ndjson", "--to", "files/2.parquet", "--type", "readings.value=string"}, "")
	must(t, []string{"preview", "files", "--unnest", "readings", "--nested", "flatten"}, "buoy_maker", "Tarn", "much")
	for i, form := range [][]string{{"--nested", "flatten", "--unnest", "readings", "--where", "id <> 2"},
		{"--unnest", "crew", "--derive", "north = buoy.position.lat > 58"},
		{"--only", "id,readings", "--unnest", "readings", "--nested", "flatten", "--nest-rows",
			"readings=readings_sensor,readings_value"}} {
		text, columns := fmt.Sprintf("text%d.ndjson", i), fmt.Sprintf("columns%d.ndjson", i)
		must(t, append([]string{"convert", "1.ndjson", "--to", text}, form...), "3 read")
		must(t, append([]string{"convert", "files/1.parquet", "--to", columns}, form...), "3 read")
		if a, b := readFile(t, text), readFile(t, columns); a != b || a == "" {
			t.Errorf("%v: of text\n%sof columns\n%s", form, a, b)
		}
	}
	must(t, []string{"load", "files/1.parquet", "--into", "ops.visits", "--split", "readings=ops.readings", "--lineage"},
		"those kept made 3 rows")
	must(t, []string{"preview", "ops.readings"}, "files/1.parquet:3")
	must(t, []string{"convert", "files/1.parquet", "--to", "all.parquet", "--unnest", "readings", "--unnest", "crew"},
		"those kept made 6 rows")
}

func TestWrongForms(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.ndjson": nestedDay, "zero.csv": "a,b\n1,0\n"})
	must(t, []string{"convert", "1.ndjson", "--to", "1.parquet"}, "")
	for want, args := range map[string][]string{
		"use keep or flatten":                      {"--nested", "flat"},
		"add --nested flatten":                     {"--lists", "json"},
		"name a list: --unnest LIST":               {"--unnest-index"},
		"write it like --nest position=lat,lon":    {"--nest", "lat,lon"},
		"write it like --derive":                   {"--derive", "x"},
		`there is no column "depth"`:               {"--where", "depth > 1"},
		"at character 6\n    id = = 2\n         ^": {"--where", "id = = 2"},
		"the nearest name is readings":             {"--unnest", "reading"},
	} {
		refused(t, 2, append([]string{"preview", "1.ndjson"}, args...), want)
	}
	refused(t, 2, []string{"preview", "1.parquet", "--only", "id"}, "columnar files are shown as they are")
	must(t, []string{"preview", "1.ndjson", "--only", "id,crew", "--type", "id=string", "--rename", "crew=names", "--unnest", "crew"},
		"names", "Bo")
	must(t, []string{"preview", "zero.csv", "--type", "a=boolean"}, "true")
	refused(t, 3, []string{"convert", "zero.csv", "--to", "x.parquet", "--derive", "c = a / b"},
		"zero.csv:2: --derive c: division by zero; NULLIF(…, 0) makes the result null, at character 3")
	refused(t, 2, []string{"weigh", "1.ndjson", "--nested", "flatten"}, "there is no flag --nested on trevak weigh; it is a flag of preview, infer, convert, load")
}

func readFile(t testing.TB, name string) string {
	t.Helper()
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestMixedTypes loads columns whose values are of different types, by either policy.
func TestMixedTypes(t *testing.T) {
	var docs, table strings.Builder
	table.WriteString("id,depth,day\n")
	for id := range 300 {
		depth, position, day, cell := fmt.Sprintf("%d.5", id), `{"lat":57.5,"lon":-5}`, "2031-05-01", fmt.Sprintf("%d.5", id)
		switch {
		case id == 298:
			depth, cell = `{"deep":7}`, "lost"
		case id == 299:
			depth = `"n/a"`
		case id%100 == 7:
			depth, position, day = `"broken"`, `"harbour"`, "soon"
		}
		fmt.Fprintf(&docs, `{"id":%d,"depth":%s,"position":%s,"note":%s}`+"\n", id, depth, position, []string{"5", `"calm"`}[id%2])
		fmt.Fprintf(&table, "%d,%s,%s\n", id, cell, day)
	}
	testfolder.Make(t, map[string]string{"docs.ndjson": docs.String(), "table.csv": table.String()})
	must(t, []string{"load", "docs.ndjson", "--into", "ops.docs", "--mixed", "misfit"}, "null tokens  1 value was taken for null")
	must(t, []string{"describe", "ops.docs"}, "double")
	r := must(t, []string{"preview", "ops.docs", "-n", "300", "-o", "json"}, "")
	var p struct{ Records []map[string]cell }
	decode(t, r.out, &p)
	for at, want := range map[int]cell{7: `{"depth":"broken","position":"harbour"}`, 298: `{"depth":{"deep":7}}`, 299: "", 8: ""} {
		if row := p.Records[at]; row["_misfit"] != want || (row["depth"] == "") != (at != 8) {
			t.Errorf("record %d has depth %q and misfits %s, want %s", at, row["depth"], row["_misfit"], want)
		}
	}
	if r := must(t, []string{"infer", "docs.ndjson", "--mixed", "misfit"},
		"4 of other types, which are misfits"); !strings.Contains(r.out, "most values") {
		t.Errorf("infer does not tell what settled the type: %s", r.out)
	}
	must(t, []string{"load", "table.csv", "--into", "ops.cells", "--mixed", "misfit"}, "300 written")
	r = must(t, []string{"preview", "ops.cells", "-n", "300", "-o", "json"}, "")
	p.Records = nil
	decode(t, r.out, &p)
	if got := p.Records[298]["_misfit"] + p.Records[107]["_misfit"]; got != `{"depth":"lost"}{"day":"soon"}` {
		t.Errorf("the misfits of cells are %s", got)
	}
	// Otherwise all of them are text, objects as JSON.
	must(t, []string{"convert", "docs.ndjson", "--to", "text.ndjson"}, "300 written")
	if got := readFile(t, "text.ndjson"); !strings.Contains(got, `"depth":"0.5"`) || !strings.Contains(got, `"depth":"{\"deep\":7}"`) ||
		strings.Contains(got, "_misfit") {
		t.Errorf("as text they are %.200s", got)
	}
	refused(t, 2, []string{"infer", "docs.ndjson", "--mixed", "some"}, "use text or misfit")
}

// TestPathsOfOneName flattens two paths that give one name, into files, a new table, and a table that had only one of them.
func TestPathsOfOneName(t *testing.T) {
	testfolder.Make(t, map[string]string{"both.ndjson": `{"id":1,"area":{"code":"A"},"area_code":7}` + "\n",
		"one.ndjson": `{"id":2,"area":{"code":"B"}}` + "\n"})
	must(t, []string{"convert", "both.ndjson", "--to", "flat.csv", "--nested", "flatten"}, "those kept made 1 row")
	if got := readFile(t, "flat.csv"); got != "id,area__code,area_code\n1,A,7\n" {
		t.Errorf("flattened as %s", got)
	}
	must(t, []string{"load", "both.ndjson", "--into", "ops.both", "--nested", "flatten"}, "")
	must(t, []string{"load", "both.ndjson", "--into", "ops.both", "--nested", "flatten"}, "")
	must(t, []string{"load", "one.ndjson", "--into", "ops.one", "--nested", "flatten"}, "")
	refused(t, 2, []string{"load", "both.ndjson", "--into", "ops.one", "--nested", "flatten"},
		`area.code and another path both come out as the column "area_code"`)
	must(t, []string{"load", "both.ndjson", "--into", "ops.one", "--nested", "flatten", "--drop", "area_code"}, "")
}

// TestRowsOfAnotherFormInParquet gives records other forms in Parquet files, where texts go through as numbers, and as JSON
// lines, where they do not.
func TestRowsOfAnotherFormInParquet(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	text := func() string {
		return []string{"null", `""`, `"calm"`, `"drift \"north\""`, `"a swell from the west that lasts"`, `"Brå"`,
			fmt.Sprintf(`"t%d"`, random.IntN(3000))}[random.IntN(7)]
	}
	var docs strings.Builder
	for id := range 3000 {
		var readings, alerts []string
		for range random.IntN(5) {
			readings = append(readings, fmt.Sprintf(`{"sensor":%s,"unit":{"name":%s},"value":%d.5,"flags":[%s]}`, text(), text(),
				random.IntN(90), text()))
		}
		for range random.IntN(3) {
			alerts = append(alerts, text())
		}
		fmt.Fprintf(&docs, `{"id":%d,"buoy":{"code":"OS-%d","area":%s},"readings":[%s],"alerts":[%s],"note":%s}`+"\n", id,
			random.IntN(40), text(),
			strings.Join(readings, ","), strings.Join(alerts, ","), text())
	}
	testfolder.Make(t, map[string]string{"docs.ndjson": docs.String()})
	for i, form := range [][]string{
		{"--nested", "flatten"},
		{"--unnest", "readings", "--nested", "flatten"},
		{"--unnest", "readings", "--unnest", "readings.flags", "--unnest-index", "--unnest-empty", "drop"},
		{"--unnest", "readings,alerts", "--nested", "flatten", "--flatten-depth", "1"},
		{"--unnest", "readings", "--nested", "flatten", "--lists", "json", "--where", "id > 100", "--derive",
			"loud = upper(readings_sensor)"},
		{"--unnest", "readings", "--nested", "flatten", "--keep-raw", "--max-record", "5000"},
	} {
		parquet, lines, again := fmt.Sprint(i, ".parquet"), fmt.Sprint(i, ".ndjson"), fmt.Sprint(i, "-again.ndjson")
		must(t, append([]string{"convert", "docs.ndjson", "--to", parquet}, form...), "")
		must(t, append([]string{"convert", "docs.ndjson", "--to", lines}, form...), "")
		must(t, []string{"convert", parquet, "--to", again}, "")
		if got, want := readFile(t, again), readFile(t, lines); got != want {
			t.Errorf("%v: %d bytes came back of %d", form, len(got), len(want))
		}
	}
}
