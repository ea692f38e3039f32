package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/ipc"

	"trevak/internal/testfolder"
)

// TestStandardOutputIsADestination has rows sent on, with the report beside them.
func TestStandardOutputIsADestination(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	lines := must(t, []string{"convert", "r.csv", "--to", "-", "--only", "Buoy Code,note"}, "")
	if n := strings.Count(lines.out, "\n"); n != 3 || !json.Valid([]byte(strings.SplitN(lines.out, "\n", 2)[0])) {
		t.Errorf("%q", lines.out)
	}
	if !strings.Contains(lines.err, "standard output") || !strings.Contains(lines.err, "3 read = 3 written") {
		t.Errorf("%q", lines.err)
	}
	if quiet := must(t, []string{"convert", "r.csv", "--to", "-", "--format", "csv", "--quiet"}, "Buoy_Code,observed_at"); quiet.err != "" {
		t.Errorf("%q", quiet.err)
	}
	stream := must(t, []string{"convert", "r.csv", "--to", "-", "--format", "arrow"}, "")
	r, err := ipc.NewReader(strings.NewReader(stream.out))
	if err != nil {
		t.Fatal(err)
	}
	var rows int64
	for r.Next() {
		rows += r.RecordBatch().NumRows()
	}
	if rows != 3 || r.Err() != nil {
		t.Errorf("%d rows, %v", rows, r.Err())
	}
	refused(t, 3, []string{"preview", keep(t, "x.arrows", stream.out)}, "is an Arrow stream, which is not read")
	refused(t, 2, []string{"convert", "r.csv", "--to", "-", "--format", "parquet"}, "do not go to standard output")
	refused(t, 2, []string{"convert", "r.csv", "--to", "-", "--partition", "note"}, "standard output has no partitions")
	report := must(t, []string{"convert", "r.csv", "--to", "-", "-o", "json"}, "")
	if !json.Valid([]byte(report.err)) || !strings.Contains(report.err, `"rows_written": 3`) {
		t.Errorf("%q", report.err)
	}
	refusedRun := trevak(t, "convert", keep(t, "bad.csv", "a,b\n1,2\n3\n4,5\n"), "--to", "-", "--quarantine", "q.ndjson")
	if refusedRun.code != 3 || refusedRun.out != "" {
		t.Errorf("%+v", refusedRun)
	}
}

func keep(t *testing.T, name, text string) string {
	t.Helper()
	if err := os.WriteFile(name, []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	return name
}

// TestPackedText writes text packed as its ending says, and reads it back.
func TestPackedText(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	want := must(t, []string{"convert", "r.csv", "--to", "-"}, "").out
	for ending, name := range map[string]string{"gz": "gzip", "zst": "zstd", "lz4": "lz4", "xz": "xz"} {
		for _, format := range []string{"csv", "ndjson", "tsv"} {
			file := fmt.Sprintf("x.%s.%s", format, ending)
			must(t, []string{"convert", "r.csv", "--to", file}, "1 file, "+name)
			must(t, []string{"preview", file}, name, "first bytes")
			if got := must(t, []string{"convert", file, "--to", "-"}, "").out; got != want {
				t.Errorf("%s reads back as\n%s, not\n%s", file, got, want)
			}
		}
	}
	must(t, []string{"convert", "r.csv", "--to", "parts/", "--format", "csv.gz", "--partition", "note"}, "partitions")
	must(t, []string{"preview", "parts"}, "gzip")
	refused(t, 2, []string{"convert", "r.csv", "--to", "x.parquet.gz"}, "files ending in .gz are not written")
	refused(t, 2, []string{"convert", "r.csv", "--to", "x.csv.gz", "--codec", "zstd:9"}, "text, which is packed where its ending says so")
}

// TestTablesAreSources reads tables where files are read.
func TestTablesAreSources(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	must(t, []string{"load", "r.csv", "--into", "ops.readings"}, "ops.readings")
	must(t, []string{"infer", "ops.readings"}, "3 records in 1 object", "depth_m", "double")
	must(t, []string{"infer", "ops.readings", "--emit", "ddl"}, "CREATE TABLE", "depth_m")
	got := must(t, []string{"convert", "ops.readings", "--to", "-"}, "").out
	if want := must(t, []string{"convert", "r.csv", "--to", "-"}, "").out; got != want {
		t.Errorf("the table is\n%s, not\n%s", got, want)
	}
	must(t, []string{"convert", "table:ops.readings", "--to", "deep.parquet", "--where", "depth_m > 5", "--only", "Buoy_Code,depth_m"},
		"filtered")
	must(t, []string{"weigh", "ops.readings"}, "ops.readings", "Favoring")
	refused(t, 2, []string{"infer", "ops.readings", "--delimiter", "tab"}, "--delimiter has no effect on a table, whose rows are settled")
	refused(t, 1, []string{"convert", "ops.reading", "--to", "x.csv"}, "the nearest name is ops.readings")
	refused(t, 2, []string{"infer", "r.csv", "--warehouse", "w"}, "--warehouse has no effect on files")
}

// TestAlterDryRun tells what would change, and changes nothing.
func TestAlterDryRun(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	must(t, []string{"load", "r.csv", "--into", "ops.readings"}, "")
	before := must(t, []string{"schema", "ops.readings", "-o", "json"}, "").out
	must(t, []string{"alter", "ops.readings", "--rename", "note=remark", "--dry-run"}, "nothing was changed", "remark")
	must(t, []string{"alter", "ops.readings", "--rename", "note=remark", "--dry-run", "-o", "json"}, `"dry_run": true`)
	refused(t, 2, []string{"alter", "ops.readings", "--rename", "nte=remark", "--dry-run"}, "the nearest name is note")
	if after := must(t, []string{"schema", "ops.readings", "-o", "json"}, "").out; after != before {
		t.Errorf("the schema is\n%s, not\n%s", after, before)
	}
}

// TestQuiet holds that nothing is said of what was done, but that what is asked for is.
func TestQuiet(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	for _, line := range []string{"load r.csv --into ops.readings", "convert r.csv --to x.parquet", "alter ops.readings --drop note"} {
		if r := must(t, append(strings.Fields(line), "--quiet"), ""); r.out+r.err != "" {
			t.Errorf("%s says %q%q", line, r.out, r.err)
		}
	}
	must(t, []string{"preview", "r.csv", "--quiet"}, "depth (m)")
	must(t, []string{"load", "r.csv", "--into", "ops.other", "--quiet", "-o", "json"}, `"rows_written": 3`)
}

// TestNarrowTerminals holds every report to 60 characters a line.
func TestNarrowTerminals(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "bad.csv": "a,b\n1,2\n3\n4,5\n"})
	t.Setenv("TEST_COLUMNS", "60")
	for _, line := range []string{"load r.csv --into ops.readings", "load r.csv --into ops.readings --dry-run", "preview r.csv", "infer r.csv",
		"infer r.csv --column note", "weigh r.csv --try-sort note", "tables", "describe ops.readings", "schema ops.readings",
		"schema ops.readings --history", "convert r.csv --to x.parquet", "describe x.parquet",
		"load bad.csv --into ops.b --quarantine q.ndjson", "load bad.csv --into ops.b --tolerate 1 --quarantine q.ndjson"} {
		r := trevak(t, strings.Fields(line)...)
		os.Remove("q.ndjson")
		for _, l := range strings.Split(r.out+r.err, "\n") {
			if len([]rune(l)) > 60 && strings.Contains(strings.TrimSpace(l), " ") {
				t.Errorf("%s: %q has %d characters", line, l, len([]rune(l)))
			}
		}
	}
}
