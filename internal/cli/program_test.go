package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	early "early.trevak"
	"github.com/spf13/cobra"

	"trevak/internal/testfolder"
)

// program is the built program, made once for all tests.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "trevak-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "trevak")
	build := exec.Command("go", "build", "-o", program, "trevak/cmd/trevak")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	debug.SetGCPercent(early.Percent()) // which the package under test leaves switched off
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// result is what a run printed and how it ended.
type result struct {
	out, err string
	code     int
}

// trevak runs the program in the working folder.
func trevak(t testing.TB, args ...string) result {
	t.Helper()
	cmd := exec.Command(program, args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.Env = append(os.Environ(), "COLUMNS="+os.Getenv("TEST_COLUMNS"), "TREVAK_WAREHOUSE=")
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// must is trevak for a run that must succeed and print certain things.
func must(t testing.TB, args []string, wants ...string) result {
	t.Helper()
	r := trevak(t, args...)
	if r.code != 0 {
		t.Fatalf("trevak %s: exit %d: %s", strings.Join(args, " "), r.code, r.err)
	}
	for _, want := range wants {
		if !strings.Contains(r.out, want) {
			t.Errorf("trevak %s lacks %q:\n%s", strings.Join(args, " "), want, r.out)
		}
	}
	return r
}

func refused(t testing.TB, code int, args []string, want string) {
	t.Helper()
	r := trevak(t, args...)
	if r.code != code || !strings.Contains(r.err, want) || r.out != "" && !asksJSON(args) {
		t.Errorf("trevak %s: exit %d, want %d with %q: %s%s", strings.Join(args, " "), r.code, code, want, r.err, r.out)
	}
}

const readings = "Buoy Code,observed at,depth (m),note\n0001,2031-05-01T01:00:00Z,12.5,\"calm, " +
	"clear\"\n0002,2031-05-02T02:00:00Z,,\"\"\n0003,2031-05-02T03:00:00Z,7,\n"

func TestPreviewCommand(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	must(t, []string{"preview", "r.csv", "-n", "2"}, "1 object, ", "delimiter", "comma", "header", "yes",
		"in 2 of 4 columns a word stands above", "calm, clear", `0002       2031-05-02T02:00:00Z  ·          ""`)
	var p struct {
		Rules   []struct{ Rule, Value, Why string } `json:"reading_rules"`
		Columns []struct{ Path string }
		Records []map[string]*string
	}
	decode(t, must(t, []string{"preview", "r.csv", "-o", "json"}).out, &p)
	if len(p.Records) != 3 || p.Records[1]["depth (m)"] != nil || *p.Records[1]["note"] != "" || p.Records[2]["note"] != nil ||
		len(p.Rules) != 6 {
		t.Errorf("%+v", p)
	}
}

func decode(t testing.TB, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
}

// cell is a value of any type, as it stands in JSON but without quotes; null is empty.
type cell string

func (c *cell) UnmarshalJSON(text []byte) error {
	switch {
	case string(text) == "null":
		*c = ""
	case text[0] != '"':
		*c = cell(text)
	default:
		return json.Unmarshal(text, (*string)(c))
	}
	return nil
}

func TestInferCommand(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	must(t, []string{"infer", "r.csv"}, "3 records in 1 object", "Buoy_Code", "Buoy Code", "timestamptz", `line 2 "12.5"`)
	var i struct {
		Records int `json:"records_read"`
		Columns []struct {
			Name, Type, Smallest, Largest cell
			Origin                        string `json:"source_name"`
			Nulls, Distinct               int64
			Longest                       int
			Forced                        struct{ Line int64 } `json:"settled_by"`
		}
	}
	decode(t, must(t, []string{"infer", "r.csv", "-o", "json"}).out, &i)
	d := i.Columns[2]
	if i.Records != 3 || d.Name != "depth_m" || d.Origin != "depth (m)" || d.Type != "double" || d.Nulls != 1 || d.Distinct != 2 ||
		d.Smallest != "7" || d.Largest != "12.5" ||
		d.Longest != 4 || d.Forced.Line != 2 {
		t.Errorf("%+v", i)
	}
	must(t, []string{"infer", "r.csv", "--type", "depth (m)=string", "--type", "note=string", "--no-header", "--type", "c1=string"}[:6],
		"string (pinned)", "pinned")
}

// report is the account of a load as programs read it.
type report struct {
	Objects []struct {
		Location    string
		Read        int64 `json:"records_read"`
		Written     int64 `json:"rows_written"`
		Quarantined int64 `json:"records_quarantined"`
		Skipped     int64 `json:"records_skipped"`
	}
	Read         int64 `json:"records_read"`
	Written      int64 `json:"rows_written"`
	BytesRead    int64 `json:"bytes_read"`
	BytesWritten int64 `json:"bytes_written"`
	DataFiles    int   `json:"data_files"`
	Partitions   int
	Seconds      float64
	Table        string
	SnapshotID   string `json:"snapshot_id"`
	Drift        []any
	Renamed      []any
}

func TestLoadCommand(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/r.csv": readings, "more.csv": "depth (m),Buoy Code\n1.5,0009\n",
		"bad.csv": "Buoy Code,depth (m)\n0001,1\n0002,deep\n"})
	var r report
	decode(t, must(t, []string{"load", "in", "--into", "ops.readings", "--partition", "day(observed_at)", "-o", "json"}).out, &r)
	if r.Read != 3 || r.Written != 3 || len(r.Objects) != 1 || r.Objects[0].Written != 3 || r.DataFiles != 2 || r.Partitions != 2 ||
		r.Table != "ops.readings" || r.SnapshotID == "" ||
		r.BytesRead != int64(len(readings)) || r.BytesWritten == 0 || r.Drift == nil || len(r.Renamed) != 3 {
		t.Errorf("%+v", r)
	}
	before := snapshotOf(t)
	refused(t, 3, []string{"load", "bad.csv", "--into", "ops.readings", "--drift", "stop"}, `--drift stop refuses any difference`)
	refused(t, 3, []string{"load", "bad.csv", "--into", "ops.readings", "--required", "depth (m)"},
		`trevak: bad.csv:3: column "depth (m)": "deep" is not a double, and the column is required; mend`)
	if after := snapshotOf(t); after != before {
		t.Errorf("a refused load changed the table: %s", after)
	}
	must(t, []string{"load", "more.csv", "--into", "ops.readings"}, "ops.readings\n", "1 read = 1 written + 0 quarantined + 0 skipped",
		"snapshot")
	must(t, []string{"preview", "ops.readings"}, "0009", "calm, clear")
	must(t, []string{"tables"}, "ops.readings", "day(observed_at)")
	must(t, []string{"describe", "table:ops.readings"}, "day(observed_at)", "Buoy Code", "timestamptz", "plain", "append",
		"rows            4")
	for _, name := range []string{"in/r.csv", "more.csv", "bad.csv"} {
		if _, err := os.Stat(name); err != nil {
			t.Errorf("a source file is gone: %v", err)
		}
	}
}

func snapshotOf(t testing.TB) string {
	t.Helper()
	var d struct {
		Rows      int64
		Snapshots []struct {
			ID string `json:"snapshot_id"`
		}
	}
	decode(t, must(t, []string{"describe", "ops.readings", "-o", "json"}).out, &d)
	return fmt.Sprint(d.Rows, d.Snapshots)
}

func TestRefusedFirstLoadMakesNoTable(t *testing.T) {
	testfolder.Make(t, map[string]string{"bad.csv": "a,b\n1,2\n3\n"})
	refused(t, 3, []string{"load", "bad.csv", "--into", "ops.x"}, "bad.csv:3: the record has 1 field where 2 are expected")
	must(t, []string{"tables"}, "No table in")
	if entries, _ := filepath.Glob("warehouse/*"); len(entries) > 0 {
		t.Errorf("%v is left", entries)
	}
	must(t, []string{"load", "bad.csv", "--into", "ops.x", "--ragged", "pad"}, "2 read = 2 written")
}

// TestKilledLoadsLeaveTheTableWhole kills loads at many moments and looks at the table after each.
func TestKilledLoadsLeaveTheTableWhole(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": areas(300_000)})
	const n = 300_000
	loads := 0
	for round := range 12 {
		done := killed(t, round, "load", "in.csv", "--again", "--into", "ops.readings", "--partition", "area")
		var list struct {
			Tables []struct {
				Rows int64
			}
		}
		decode(t, must(t, []string{"tables", "-o", "json"}).out, &list)
		if done {
			loads++
		}
		rows := int64(0)
		if len(list.Tables) > 0 {
			rows = list.Tables[0].Rows
		}
		if rows%n != 0 || rows < int64(loads)*n {
			t.Fatalf("after round %d the table has %d rows", round, rows)
		}
		loads = int(rows / n)
	}
	must(t, []string{"load", "in.csv", "--again", "--into", "ops.readings"}, "300,000 read = 300,000 written")
	must(t, []string{"load", "in.csv", "--into", "ops.readings"}, "nothing new")
}

// TestKilledConvertsLeaveNothing kills converts that replace a folder, at many moments.
func TestKilledConvertsLeaveNothing(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": areas(200_000)})
	args := []string{"convert", "in.csv", "--to", "out/", "--partition", "area", "--sort", "id desc", "--overwrite"}
	must(t, args)
	for round := range 8 {
		killed(t, round, args...)
		if files, _ := filepath.Glob("out/*/*.parquet"); len(files) != 50 {
			t.Fatalf("after round %d there are %d files", round, len(files))
		}
	}
	must(t, args)
	if entries, _ := filepath.Glob(".out*"); len(entries) > 0 {
		t.Errorf("%v is left", entries)
	}
	must(t, []string{"preview", "out"}, "199950", "area 0")
}

func TestConvertCommand(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "old.parquet": "old"})
	for _, codec := range []string{"zstd", "snappy", "gzip", "lz4", "none"} {
		must(t, []string{"convert", "r.csv", "--to", codec + ".parquet", "--codec", codec}, "3 read = 3 written", "depth_m")
		must(t, []string{"preview", codec + ".parquet"}, "Parquet", "calm, clear")
		must(t, []string{"describe", codec + ".parquet"}, "3 in 1 row group", codec, "depth_m")
	}
	must(t, []string{"convert", "r.csv", "--to", "parts/", "--partition", "day(observed at)"}, "partitions  2")
	if found, _ := filepath.Glob("parts/observed_at_day=2031-05-0?/*.parquet"); len(found) != 2 {
		t.Errorf("%v", found)
	}
	refused(t, 2, []string{"convert", "r.csv", "--to", "old.parquet"},
		"old.parquet exists already; choose another name, or replace it with --overwrite")
}

func TestWrongUsage(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "doc.json": "{\n \"a\": 1\n}\n"})
	for _, test := range []struct {
		args string
		want string
		code int
	}{
		{"preview", "trevak preview needs a source: a file, a folder, a pattern or an address; write it like: trevak preview ", 2},
		{"preview r.csv --nonsense", "there is no flag --nonsense on trevak preview; see trevak preview --help", 2},
		{"preview r.csv --delimitr ,", "the nearest name is --delimiter", 2},
		{"preview r.csv -z", "there is no flag -z on trevak preview; flags of more than one letter have two hyphens", 2},
		{"preview r.csv --skip-rows abc", `--skip-rows "abc" is not what it takes; write a whole number, like 10`, 2},
		{"preview r.csv --skip-rows 99999999999999999999", "is not what it takes; write a whole number", 2},
		{"preview r.csv --timeout abc", "write a duration, like 1m30s or 30s", 2},
		{"preview r.csv --trim=maybe", "write true or false", 2},
		{"preview r.csv --=x", "is no flag", 2},
		{"nonsense", `there is no command "trevak nonsense"; the commands are adopt, alter, `, 2},
		{"prevew r.csv", "the nearest name is trevak preview", 2},
		{"feed chek r.csv", "the nearest name is trevak feed check", 2},
		{"tables schema x", `trevak tables takes no "schema"; see trevak tables --help`, 2},
		{"describe", "trevak describe needs a table or a file; write it like: trevak describe ", 2},
		{"describe a b", "trevak describe takes a table or a file, not a b", 2},
		{"convert r.csv --to x.parqet", "the nearest ending is .parquet", 2},
		{"convert r.csv --to x --format parqet", "the nearest name is parquet; use parquet, orc", 2},
		{"convert r.csv --to moon://a/x.csv", "what lies behind moon:// is not reached from here", 2},
		{"load r.csv --into ops.r --format ork", "the nearest name is orc; use parquet, orc or avro", 2},
		{"load r.csv --into ops.r --drift gro", "the nearest name is grow", 2},
		{"preview moon://a/x.csv", "moon://a/x.csv: what lies behind moon:// is not reached from here; name a place on the disk", 2},
		{"tables --warehouse moon://a/x", "what lies behind moon:// is not reached from here", 2},
		{"preview r.csv --feed moon://a/x", "what lies behind moon:// is not reached from here", 2},
		{"preview r.csv --feed none.yaml", "the feed file none.yaml cannot be read: no such file or directory", 1},
		{"preview rr.csv", "there is r.csv; it holds no table yet", 1},
		{"preview ./rr.csv", "there is r.csv", 1},
		{"preview r.csv -o yaml", "use table or json", 2},
		{"preview r.csv -n -1", "is below 0", 2},
		{"preview r.csv --header --no-header", "contradict each other", 2},
		{"preview r.csv --quote ab", "is not one ASCII character", 2},
		{"preview r.csv --escape slash", "use double or backslash", 2},
		{"preview r.csv --columns a,b", "--columns names 2 columns, the records have 4 fields", 2},
		{"load r.csv --into ops.r --tolerate x", "is no limit; write a number or a share", 2},
		{"load r.csv --into ops.r --tolerate", "--tolerate needs a value; write a number behind it, like --tolerate NUMBER", 2},
		{"load r.csv", "--into is missing", 2},
		{"load r.csv --into readings", "write namespace.table", 2},
		{"load r.csv --into ops.r --codec zip", "the nearest name is gzip; use zstd, snappy", 2},
		{"load r.csv --into ops.r --type depth", "write it like --type depth=double", 2},
		{"load r.csv --into ops.r --type note=strin", "is not a type a column can be given; the nearest name is string", 2},
		{"load r.csv --into ops.r --partition dya(observed_at)", "is not a partition transform; the nearest name is day", 2},
		{"load r.csv --into ops.r --partition obserbed_at", "the nearest name is observed_at", 2},
		{"describe ops.none", "there is neither a file", 1},
		{"describe r.csv", "is delimited text, and only tables and columnar files are described; look at it with: trevak preview r.csv",
			2},
		{"preview none.csv", "there is neither a file", 1},
		{"preview ./none.csv", "there is no file", 1},
		{"preview doc.json --records items", "does not begin with $", 2},
		{"preview doc.json --records $.items[*]", "has no records at $.items[*]", 3},
		{"infer r.parquet", "there is neither a file", 1},
	} {
		refused(t, test.code, strings.Fields(test.args), test.want)
	}
}

func TestLimitsAndSources(t *testing.T) {
	testfolder.Make(t, map[string]string{"long.csv": "a,b\n1,\"" + strings.Repeat("x", 3000) + "\"\n2,y\n",
		"deep.ndjson": "{\"a\":{\"b\":{\"c\":[1]}}}\n", "list.txt": "long.csv\n\nmore/*\n", "more/m.csv": "a,b\n3,z\n"})
	refused(t, 2, []string{"infer", "long.csv", "--max-record", "0"}, "count from 1 on")
	refused(t, 3, []string{"infer", "long.csv", "--max-columns", "1"}, "long.csv: has 2 columns and parts of columns, more than 1; check")
	refused(t, 3, []string{"convert", "long.csv", "--to", "x.parquet", "--max-record", "1000"},
		"long.csv:2: the record that begins here does not end within the largest size")
	must(t, []string{"convert", "long.csv", "--to", "long.parquet", "--max-record", "4000"}, "2 read = 2 written")
	refused(t, 3, []string{"convert", "deep.ndjson", "--to", "x.parquet", "--max-depth", "3"}, "lie more than 3 deep")
	must(t, []string{"convert", "deep.ndjson", "--to", "x.parquet", "--max-depth", "4"}, "1 read = 1 written")
	must(t, []string{"convert", "--files-from", "list.txt", "--to", "y.parquet"}, "3 read = 3 written")
	cmd := exec.Command(program, "preview", "-", "-n", "1")
	cmd.Stdin = strings.NewReader("a;b\n1;2\n")
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "semicolon") {
		t.Errorf("%v: %s", err, out)
	}
	cmd = exec.Command(program, "preview", "-")
	cmd.Stdin = strings.NewReader("PK\x03\x04\x14\x00")
	if out, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(out), "save it unpacked as a file") {
		t.Errorf("%v: %s", err, out)
	}
}

func TestQuarantineAndBack(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "id,depth (m),note\n1,2.5,a\n2,x\n3,4.5,b,c\n4,1,\"d\"\n5,deep,e\n"})
	args := []string{"load", "in.csv", "--into", "ops.r", "--type", "depth (m)=double", "--required", "depth (m)", "--quarantine",
		"q.ndjson"}
	r := trevak(t, append(args, "--tolerate", "2")...)
	if r.code != 3 || !strings.Contains(r.err, "3 of 5 records cannot become rows, more than --tolerate 2 allows") ||
		!strings.Contains(r.err, "does-not-fit") || !strings.Contains(r.err, "kept in q.ndjson") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	must(t, []string{"tables"}, "No table in")
	if err := os.Remove("q.ndjson"); err != nil {
		t.Fatal(err)
	}
	must(t, append(args, "--tolerate", "60%"), "5 read = 2 written + 3 quarantined + 0 skipped", "too-many-fields", "in.csv:4")
	text, err := os.ReadFile("q.ndjson")
	if err != nil {
		t.Fatal(err)
	}
	mended := strings.NewReplacer(`2,x`, `2,3.5,x`, `3,4.5,b,c`, `3,4.5,\"b,c\"`, `5,deep,e`, `5,9,e`).Replace(string(text))
	if err := os.WriteFile("mended.ndjson", []byte(mended), 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"load", "mended.ndjson", "--into", "ops.r", "--type", "depth (m)=double"}, "3 read = 3 written")
	must(t, []string{"preview", "ops.r"}, "b,c", "3.5")
}

// TestHeaderlessQuarantine feeds back records that say nothing of their columns by themselves.
func TestHeaderlessQuarantine(t *testing.T) {
	testfolder.Make(t, map[string]string{"log.psv": "6|2031-05-01|a, b\n7|2031-05-01|q\n8|2031-05-02\n9|2031-05-03|c|d\n"})
	must(t, []string{"load", "log.psv", "--into", "ops.log", "--tolerate", "2", "--quarantine", "q.ndjson"}, "2 written + 2 quarantined")
	text, err := os.ReadFile("q.ndjson")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile("q.ndjson", []byte(strings.NewReplacer(`8|2031-05-02`, `8|2031-05-02|x`, `c|d`, `cd`).Replace(string(text))),
		0o644); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"load", "q.ndjson", "--into", "ops.log"}, "2 read = 2 written")
	must(t, []string{"preview", "ops.log"}, "cd", "2031-05-02")
}

// TestDemoAndHelpExamples runs the demo twice and then every example in the help texts, as they stand.
func TestDemoAndHelpExamples(t *testing.T) {
	testfolder.Make(t, nil)
	must(t, []string{"demo"}, "$ trevak preview trevak-demo/stations/stations.csv", "has 6 fields where 8 are expected", "agree")
	if r := must(t, []string{"demo"}, "orrin.observations    1,600  1,600  agree"); strings.Contains(r.out, "DIFFER") {
		t.Error("the counts differ")
	}
	t.Setenv("TREVAK_WAREHOUSE", "")
	examples := 0
	var commands []*cobra.Command
	for _, cmd := range (&app{}).root().Commands() {
		commands = append(append(commands, cmd), cmd.Commands()...)
	}
	for _, cmd := range commands {
		if cmd.Name() == "completion" || cmd.Name() == "help" || cmd.HasParent() && cmd.Parent().Name() == "completion" {
			continue
		}
		lines := strings.Split(strings.TrimSpace(cmd.Example), "\n")
		if len(lines) < 2 {
			t.Errorf("%s has fewer than two examples", cmd.Name())
		}
		for _, line := range lines {
			examples++
			shell := exec.Command("sh", "-c", strings.Replace(strings.TrimSpace(line), "trevak ", program+" ", 1))
			shell.Env = os.Environ()
			if out, err := shell.CombinedOutput(); err != nil {
				t.Errorf("%s: %v\n%s", line, err, out)
			}
		}
	}
	if examples < 14 {
		t.Errorf("%d examples were run", examples)
	}
	testfolder.Make(t, map[string]string{"trevak-demo/mine.txt": "x"})
	refused(t, 2, []string{"demo"}, "holds files that are not from a demo")
}
