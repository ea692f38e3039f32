package cli

import (
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestNanoseconds keeps fractions of a second below microseconds where that is stated, in files and in tables, and never cuts them.
func TestNanoseconds(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,at,z\n1,2031-05-01T10:15:30.123456789,2031-05-01T10:15:30.000000001Z\n2,2031-05-02 10:15:30,2031-05-01T10:15:30.5+02:00\n3,1700-01-01T00:00:00.999999999,\n", "id.csv": "id\n1\n"})
	types := []string{"--type", "at=timestamp_ns", "--type", "z=timestamptz_ns"}
	want := `{"id":1,"at":"2031-05-01T10:15:30.123456789","z":"2031-05-01T10:15:30.000000001Z"} {"id":2,"at":"2031-05-02T10:15:30","z":"2031-05-01T08:15:30.5Z"} {"id":3,"at":"1700-01-01T00:00:00.999999999","z":null}`
	must(t, []string{"infer", "a.csv"}, "--type 'at=timestamp_ns' keeps them", "--type 'z=timestamptz_ns' keeps them")
	must(t, append([]string{"convert", "a.csv", "--to", "a.parquet"}, types...))
	r := must(t, append([]string{"convert", "a.parquet", "--to", "b.ndjson"}, types...))
	if got := strings.TrimSpace(strings.ReplaceAll(read(t, r, "b.ndjson"), "\n", " ")); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	refused(t, 3, []string{"convert", "a.parquet", "--to", "c.ndjson"}, `"2031-05-01T10:15:30.123456789"`)
	for _, format := range []string{"orc", "avro"} {
		refused(t, 2, append([]string{"convert", "a.csv", "--to", "a." + format}, types...),
			"is not written to files of the format "+format)
	}
	must(t, append([]string{"load", "a.csv", "--into", "ops.ns", "--sort", "at"}, types...), "3 written")
	must(t, []string{"load", "a.csv", "--again", "--into", "ops.ns"}, "3 written")
	must(t, []string{"preview", "ops.ns"}, "2031-05-01T10:15:30.123456789", "2031-05-01T10:15:30.000000001Z",
		"1700-01-01T00:00:00.999999999")
	must(t, []string{"load", "id.csv", "--into", "ops.old"})
	refused(t, 3, append([]string{"load", "a.csv", "--into", "ops.old"}, types...), "which has no nanoseconds")
	refused(t, 2, append([]string{"load", "a.csv", "--into", "ops.p", "--partition", "day(at)"}, types...),
		"day takes dates and timestamps")
}
