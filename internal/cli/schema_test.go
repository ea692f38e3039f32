package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

const (
	dayOne = "Buoy Code,observed,depth (m),count,share\n0001,23/04/2031,12.5,5,12.50\n0002,24/04/2031,NA,7,3.25\n"
	dayTwo = "observed,BUOY CODE,count,share,crew,depth\n01/05/2031,0003,3000000000,12345.5,\"Ina, " +
		"Bo\",3.5\n02/05/2031,0004,9,1.125,Cy,deep\n"
)

// TestTablesGrow loads a second day whose columns and types differ, under each policy, and alters what came of it.
func TestTablesGrow(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": dayOne, "2.csv": dayTwo})
	must(t, []string{"load", "1.csv", "--into", "ops.r", "--type", "count=int", "--type", "share=decimal(5,2)", "--key", "Buoy Code"},
		`1 value was taken for null in depth_m`, `"depth (m)" is depth_m`)
	before := listing(t, "warehouse")
	out := must(t, []string{"load", "2.csv", "--into", "ops.r", "--dry-run"}, "nothing was written", "widens from int",
		"widens from decimal(5,2), misfits kept aside", "new column", "stays null", "likely rename", "2 read = 2 written").out
	if strings.Contains(out, "snapshot") || listing(t, "warehouse") != before {
		t.Error("a dry run wrote something")
	}
	refused(t, 3, []string{"load", "2.csv", "--into", "ops.r", "--drift", "stop"}, "--drift stop refuses any difference")
	if listing(t, "warehouse") != before {
		t.Error("a refused load wrote something")
	}
	refused(t, 2, []string{"load", "2.csv", "--into", "ops.r", "--drift", "melt"}, "use grow, hold or stop")
	must(t, []string{"load", "2.csv", "--into", "ops.r", "--drift", "hold", "--tolerate-misfits", "100%"}, "not in the table", "crew",
		"unfit", "3000000000")
	must(t, []string{"load", "2.csv", "--again", "--into", "ops.r"}, "int → long", "decimal(5,2) → decimal(7,2)", "added", "letter case", "missing",
		"2.csv:3", "1.125")
	must(t, []string{"preview", "ops.r"}, `{"count":"3000000000","share":"12345.5","crew":"Ina, Bo","depth":"3.5"}`, `{"share":"1.125"}`,
		"12345.5", "2031-05-01")
	must(t, []string{"schema", "ops.r"}, "version 2 of 3", "%d/%m/%Y", `null is "NA"`, "Key: Buoy_Code")
	must(t, []string{"schema", "ops.r", "--history"}, "load of 2.csv", "column count widens from int to long", "column _misfit is new",
		"first load")
	must(t, []string{"schema", "ops.r", "0", "2", "--diff"}, "~ count from int to long", "+ crew string")
	refused(t, 2, []string{"schema", "ops.r", "0", "9", "--diff"}, "no version 9 of its schema; its versions are 0, 1, 2")
	refused(t, 2, []string{"schema", "ops.r", "--diff"}, "takes a table and two versions")
	must(t, []string{"schema", "ops.r", "--emit", "ddl"}, `"Buoy_Code" VARCHAR(4) NOT NULL`, `"crew" VARCHAR(7)`,
		`PRIMARY KEY ("Buoy_Code")`)

	must(t, []string{"alter", "ops.r", "--rename", "crew=crew_names", "--drop", "depth", "--first", "observed", "--comment",
		"share=of all"}, "column crew is called crew_names", "column depth is dropped")
	must(t, []string{"preview", "ops.r"}, "crew_names", "Ina, Bo")
	refused(t, 2, []string{"alter", "ops.r", "--rename", "crew_name=x"}, `no column "crew_name"; the nearest name is crew_names`)
	refused(t, 2, []string{"alter", "ops.r", "--widen", "count=string"}, "cannot become string")
	refused(t, 2, []string{"alter", "ops.r"}, "nothing to alter")
	must(t, []string{"load", "2.csv", "--again", "--into", "ops.r", "--drop", "depth"}, "2 read = 2 written")
	var s struct {
		Columns []struct{ Path, Origin string }
	}
	decode(t, must(t, []string{"schema", "ops.r", "-o", "json"}).out, &s)
	if len(s.Columns) != 7 || s.Columns[0].Path != "observed" || s.Columns[6].Path != "_misfit" && s.Columns[5].Path != "_misfit" {
		t.Errorf("%+v", s)
	}
}

// listing names every file below a folder.
func listing(t testing.TB, dir string) string {
	t.Helper()
	var out []string
	err := filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		out = append(out, path)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return strings.Join(out, "\n")
}

// TestFeedRoundTrip loads by flags and by the feed file that infer makes of them.
func TestFeedRoundTrip(t *testing.T) {
	nested := `{"id":1,"pos":{"lat":1.5,"the lon":2},"list":[{"v":1,"w":"x"}],"when":"23.4.2031","extra":"a"}` + "\n" +
		`{"id":2,"list":[],"when":"3.4.2031"}` + "\n"
	testfolder.Make(t, map[string]string{"in/1.csv": dayOne, "n.ndjson": nested, "odd.csv": "a;b\n1;1.234,5\n2;-\n"})
	for i, flags := range [][]string{
		{"in", "--type", "count=int", "--type", "share=decimal(5,2)", "--rename", "depth (m)=depth", "--key", "Buoy Code", "--partition",
			"month(observed)", "--lineage", "--tolerate", "1%", "--codec", "gzip"},
		{"n.ndjson", "--type", "pos.lat=decimal(9,6)", "--drop", "extra", "--names", "snake", "--required", "id"},
		{"odd.csv", "--decimal-mark", ",", "--delimiter", "semicolon", "--nulls", "x"},
	} {
		name := string(rune('a' + i))
		yaml := must(t, append([]string{"infer", "--into", "fed." + name, "--emit", "feed"}, flags...)).out
		testfile := name + ".yaml"
		if err := os.WriteFile(testfile, []byte(yaml), 0o644); err != nil {
			t.Fatal(err)
		}
		must(t, []string{"feed", "check", testfile}, "is a feed file")
		must(t, []string{"load", "--feed", testfile}, "fed."+name)
		must(t, append([]string{"load", "--into", "flags." + name}, flags...))
		for _, command := range []string{"preview", "schema"} {
			a, b := must(t, []string{command, "fed." + name}).out, must(t, []string{command, "flags." + name}).out
			// The load's own time differs, and the names of the tables.
			if a, b = stable(a), stable(b); a != b {
				t.Errorf("%s: %s\nwant\n%s\n%s", command, a, b, yaml)
			}
		}
	}
	must(t, []string{"preview", "--feed", "c.yaml"}, "odd.csv", "semicolon")
	must(t, []string{"infer", "--feed", "c.yaml", "--type", "b=string"}, "string (pinned)")
	must(t, []string{"convert", "--feed", "c.yaml", "--to", "c.parquet"}, "2 read = 2 written")
	if err := os.WriteFile("bad.yaml", []byte("feed: 1\ncolumns:\n  - name: a\n    type: bigint\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	refused(t, 2, []string{"load", "--feed", "bad.yaml"}, `bad.yaml:4: column "a": "bigint" is not a type`)
	var parsed map[string]any
	if err := json.Unmarshal([]byte(must(t, []string{"feed", "schema"}).out), &parsed); err != nil {
		t.Error(err)
	}
}

// stable leaves out of a text what differs between two loads of the same rows.
func stable(text string) string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		fields := strings.Fields(line)
		for i, f := range fields {
			if strings.HasPrefix(f, "20") && strings.HasSuffix(f, "Z") && len(f) > 20 || strings.HasPrefix(f, "fed.") ||
				strings.HasPrefix(f, "flags.") {
				fields[i] = "·"
			}
		}
		if len(fields) > 0 && !strings.Contains(line, "object") && !strings.Contains(line, "──") {
			out = append(out, strings.Join(fields, " "))
		}
	}
	return strings.Join(out, "\n")
}

// TestCorrectionFlags runs every flag that corrects what inference would decide.
func TestCorrectionFlags(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "id;Wave Height;price;pct;when;flag;extra\n1;1.234,5;€ " +
		"12,50;45%;1700000000;t;x\n2;?;€ 3,00;7%;1700000001;f;\n"})
	must(t, []string{"infer", "in.csv"}, "with the decimal mark ,: --decimal-mark", "--type 'pct=long(#%)'", "boolean t/f", "--key id")
	must(t, []string{"infer", "in.csv", "--decimal-mark", "comma", "--type", "price=decimal(9,2,€ #)", "--type", "pct=long(#%)", "--type",
		"when=timestamptz(epoch)", "--names", "snake", "--drop", "extra"},
		"wave_height", "decimal(9,2) € # (pinned)", `taken for null: "?" (1)`, "timestamptz epoch")
	must(t, []string{"convert", "in.csv", "--to", "o.parquet", "--decimal-mark", "comma", "--type", "price=decimal(9,2,€ #)", "--type",
		"pct=long(#%)", "--type", "when=timestamptz(epoch)", "--only", "id,price,pct,when"})
	must(t, []string{"preview", "o.parquet"}, "1   12.50  45   2023-11-14T22:13:20Z")
	must(t, []string{"infer", "in.csv", "--column", "Wave Height"}, "seen as", "null token", "1.234,5", "in the source  Wave Height")
	must(t, []string{"infer", "in.csv", "--into", "ops.r", "--emit", "ddl"}, `CREATE TABLE "ops"."r"`, `"flag" BOOLEAN`,
		`"price" VARCHAR(7)`)
	must(t, []string{"infer", "in.csv", "--scan", "sample"}, "2 records")
	must(t, []string{"convert", "in.csv", "--required", "extra", "--tolerate", "1", "--to", "p.parquet"}, "no-value",
		"2 read = 1 written + 1 quarantined")
	for _, test := range []struct{ flag, value, want string }{
		{"--type", "wavehight=double", "the nearest name is Wave Height"}, {"--type", "id=decimal(3)", "is no decimal"},
		{"--type", "id", "does not name a column and a type"},
		{"--rename", "id", "does not name a column and its new name"}, {"--rename", "id=flag", "would both be called"},
		{"--only", "idd", "--only names a column"}, {"--drop", "zz", "--drop names a column"},
		{"--required", "zz", "--required names a column"}, {"--key", "zz", "--key names a column"},
		{"--names", "loud", "use safe, keep or snake"}, {"--decimal-mark", ";", "use comma or point"},
		{"--scan", "half", "use sample or full"}, {"--emit", "yaml", "use feed or ddl"}, {"--column", "zz", "there is no column"},
	} {
		refused(t, 2, []string{"infer", "in.csv", test.flag, test.value}, test.want)
	}
}
