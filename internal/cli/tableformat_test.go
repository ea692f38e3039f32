package cli

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// A table can hold files of other formats, and later loads follow it.
func TestTablesOfOtherFormats(t *testing.T) {
	var first, second strings.Builder
	for i := range 300 {
		fmt.Fprintf(&first, `{"id":%d,"area":"area %d","depth":%d.25,"tags":["a",null]}`+"\n", i, i%3, i)
		fmt.Fprintf(&second, `{"id":%d,"area":"area %d","depth":%d.5,"tags":[],"firmware":"2.1"}`+"\n", 300+i, i%3, i)
	}
	testfolder.Make(t, map[string]string{"1.ndjson": first.String(), "2.ndjson": second.String()})
	for _, format := range []string{"orc", "avro"} {
		into := "ops." + format
		must(t, []string{"load", "1.ndjson", "--into", into, "--partition", "area", "--sort", "depth desc", "--format", format},
			"300 written", "3 files")
		must(t, []string{"load", "2.ndjson", "--into", into}, "300 written", "firmware")
		files, err := filepath.Glob(filepath.Join("warehouse", "ops", format, "data", "*", "*."+format))
		if err != nil || len(files) != 6 {
			t.Errorf("%d files of the format %s, %v", len(files), format, err)
		}
		must(t, []string{"describe", into}, "rows            600", map[string]string{"orc": "ORC files", "avro": "Avro files"}[format])
		must(t, []string{"preview", into, "-n", "1"}, "firmware", "area 0")
		must(t, []string{"weigh", into, "--favor", "size"}, "600 rows")
		// What is in the table is what was sent.
		must(t, []string{"convert", filepath.Join("warehouse", "ops", format, "data"), "--to", format + ".ndjson", "--nest-rows",
			"ids=id", "--nest-key", "area", "--only", "id,area"}, "600 read")
	}
	// Names of files are those of their loads, so they come in any order.
	lines := func(path string) string {
		list := strings.Split(readFile(t, path), "\n")
		slices.Sort(list)
		return strings.Join(list, "\n")
	}
	if a, b := lines("orc.ndjson"), lines("avro.ndjson"); len(a) < 600 || a != b {
		t.Errorf("the two tables differ: %.300s and %.300s", a, b)
	}
	// A single load can be of another format; what a format has no use for is refused, and so is what no table holds.
	must(t, []string{"load", "2.ndjson", "--again", "--into", "ops.orc", "--format", "parquet"}, "300 written")
	must(t, []string{"describe", "ops.orc"}, "ORC and Parquet files")
	must(t, []string{"load", "2.ndjson", "--again", "--into", "ops.orc", "--bloom", "id"}, "300 written")
	refused(t, 2, []string{"load", "2.ndjson", "--again", "--into", "ops.avro", "--bloom", "id"}, "--bloom is for Parquet and ORC")
	refused(t, 2, []string{"load", "2.ndjson", "--again", "--into", "ops.avro", "--codec", "brotli"}, "are not written with it")
	refused(t, 2, []string{"load", "2.ndjson", "--into", "ops.csv", "--format", "csv"}, "use parquet, orc or avro")
}

// The format of a table stands in feed files too; a convert does not take it.
func TestFormatInFeedFiles(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings,
		"f.yaml": "feed: 1\nsource:\n  files: [r.csv]\ntable:\n  into: ops.r\n  format: orc\n"})
	must(t, []string{"feed", "check", "f.yaml"}, "ops.r")
	must(t, []string{"load", "--feed", "f.yaml"}, "3 written")
	must(t, []string{"describe", "ops.r"}, "ORC files")
	must(t, []string{"convert", "--feed", "f.yaml", "--to", "out.csv"}, "3 written")
}
