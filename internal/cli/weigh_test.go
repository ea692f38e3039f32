package cli

import (
	"bytes"
	"fmt"
	"math/rand"
	"os"
	"regexp"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

func TestWeighCommand(t *testing.T) {
	random := rand.New(rand.NewSource(7))
	var text strings.Builder
	text.WriteString("id,area,level,note\n")
	for i := range 8_000 {
		fmt.Fprintf(&text, "%d,area %d,%.4f,%x\n", i, random.Intn(6), random.Float64(), random.Int63())
	}
	testfolder.Make(t, map[string]string{"in.csv": text.String()})
	must(t, []string{"weigh", "in.csv", "--try-sort", "area", "--try-partition", "area", "--chart", "c.png"}, "8,000 rows", "zstd:9",
		"delta-binary-packed", "--sort 'area'", "one value of area", "area=area%20", "all columns", "Favoring balance")
	chart, err := os.ReadFile("c.png")
	if err != nil || !bytes.HasPrefix(chart, []byte("\x89PNG")) {
		t.Errorf("%v", err)
	}
	var w struct {
		Rows    int64
		Columns []struct {
			Path   string
			Trials []struct {
				Encoding, Codec string
				Bytes           int64 `json:"size_bytes"`
			}
		}
		Whole   []any `json:"all_columns"`
		Layouts []struct {
			Flag    string
			Scanned int64 `json:"scanned_bytes"`
			Unlaid  int64 `json:"unlaid_scanned_bytes"`
		}
		Readings []struct {
			Raw      int64 `json:"raw_bytes"`
			Columnar int64 `json:"columnar_bytes"`
		}
	}
	decode(t, must(t, []string{"weigh", "in.csv", "--favor", "size", "--try-sort", "area", "--chart", "c.svg", "-o", "json"}).out, &w)
	if w.Rows != 8_000 || len(w.Columns) != 4 || len(w.Whole) != 8 || len(w.Readings) != 2 || w.Readings[0].Raw != int64(text.Len()) ||
		w.Readings[1].Columnar >= w.Readings[0].Columnar {
		t.Errorf("%+v", w)
	}
	// Sorted by few values, a filter for one of them reads a part only.
	if l := w.Layouts[1]; l.Scanned*2 > l.Unlaid {
		t.Errorf("%+v", l)
	}
	for _, c := range w.Columns[:1] {
		sizes := map[string]int64{}
		for _, trial := range c.Trials {
			sizes[trial.Encoding+" "+trial.Codec] = trial.Bytes
		}
		if sizes["delta-binary-packed none"]*20 > sizes["plain none"] {
			t.Errorf("%s: %v", c.Path, sizes)
		}
	}
	must(t, []string{"convert", "in.csv", "--to", "o.parquet", "--codec", "auto", "--favor", "size"}, "8,000 written")
	must(t, []string{"load", "in.csv", "--into", "ops.r", "--codec", "auto"}, "8,000 written")
	for ending, codec := range map[string]string{"orc": "(zstd:3|zstd:9|gzip:6)", "avro": "(zstd:3|zstd:9|gzip:6)", "arrow": "zstd"} {
		r := must(t, []string{"convert", "in.csv", "--to", "o." + ending, "--codec", "auto", "--favor", "size"}, "8,000 written")
		if !regexp.MustCompile("in 1 file, " + codec + ",").MatchString(r.out) {
			t.Errorf("%s: %s\nwant %s", ending, r.out, codec)
		}
	}
	refused(t, 2, []string{"convert", "in.csv", "--to", "o.ndjson", "--codec", "auto"}, "text, which is packed where its ending says so")
	must(t, []string{"load", "in.csv", "--into", "ops.a", "--codec", "auto", "--favor", "size", "--format", "orc"}, "8,000 written")
	must(t, []string{"load", "in.csv", "--again", "--into", "ops.r", "--codec", "auto", "--favor", "speed"}, "8,000 written")
	must(t, []string{"weigh", "ops.r"}, "ops.r", "Favoring balance")
	must(t, []string{"weigh", "o.parquet", "--favor", "speed"}, "Favoring speed: --codec")
	refused(t, 2, []string{"weigh", "in.csv", "--favor", "luck"}, "use size, speed or balance")
	refused(t, 2, []string{"weigh", "in.csv", "--chart", "c.gif"}, "neither an .svg nor a .png")
	refused(t, 2, []string{"weigh", "in.csv", "--try-sort", "zz"}, "no column")
}

// Sources beyond a few megabytes are sampled, from within where they can be.
func TestWeighLargeSources(t *testing.T) {
	random := rand.New(rand.NewSource(8))
	var text strings.Builder
	text.WriteString("id,area,level\n")
	for i := range 300_000 {
		fmt.Fprintf(&text, "%d,area %d,%.4f\n", i, random.Intn(6), random.Float64())
	}
	testfolder.Make(t, map[string]string{"in.csv": text.String()})
	var w struct {
		Rows  int64
		Raw   int64 `json:"raw_bytes"`
		Codec string
	}
	decode(t, must(t, []string{"weigh", "in.csv", "--favor", "size", "-o", "json"}).out, &w)
	if w.Rows < 30_000 || w.Raw < 500_000 || w.Raw >= int64(text.Len()) {
		t.Errorf("%+v", w)
	}
	var c struct{ Codec string }
	decode(t, must(t, []string{"convert", "in.csv", "--to", "auto.parquet", "--codec", "auto", "--favor", "size", "-o", "json"}).out, &c)
	if !strings.HasPrefix(c.Codec, strings.SplitN(w.Codec, ",", 2)[0]) || c.Codec == "zstd" {
		t.Errorf("weigh found %s, convert took %s", w.Codec, c.Codec)
	}
	must(t, []string{"infer", "in.csv"}, "--key id")
}

// TestWeighNestedRecords takes the recommendation for parts of records as --codec.
func TestWeighNestedRecords(t *testing.T) {
	random := rand.New(rand.NewSource(2))
	var text strings.Builder
	for i := range 4000 {
		fmt.Fprintf(&text, `{"id":%d,"buoy":{"code":"OS-%04d","seal":"%016x%016x"},"readings":[{"note":"calm with a long swell from the west, %d"},{"note":"gale"}]}`+"\n", i, i%90, random.Uint64(), random.Uint64(), i%700)
	}
	testfolder.Make(t, map[string]string{"in.ndjson": text.String()})
	var w struct {
		Codec   string
		Columns []struct {
			Path, Type string
			Best       struct{ Codec string }
		}
	}
	decode(t, must(t, []string{"weigh", "in.ndjson", "--favor", "size", "-o", "json"}, `"path": "buoy.seal"`).out, &w)
	var paths []string
	for _, c := range w.Columns {
		paths = append(paths, c.Path+" "+c.Type)
	}
	if got := strings.Join(paths, ", "); got != "id long, buoy.code string, buoy.seal string, readings.element.note string" {
		t.Error(got)
	}
	must(t, []string{"convert", "in.ndjson", "--to", "a.parquet", "--codec", w.Codec}, "4,000 written")
	must(t, []string{"convert", "in.ndjson", "--to", "b.parquet", "--codec", "auto", "--favor", "size"}, "4,000 written", w.Codec)
	must(t, []string{"convert", "in.ndjson", "--to", "c.parquet", "--codec", "zstd,buoy.seal=none,readings.element.note=brotli"},
		"4,000 written")
	must(t, []string{"describe", "c.parquet"}, "buoy.seal", "readings.list.element.note", "brotli", "none")
}
