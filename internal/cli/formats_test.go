package cli

import (
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestFormatsThereAndBack converts rows from each format into each other, and they stay the same.
func TestFormatsThereAndBack(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.ndjson": `{"id":1,"Name":"a, \"b\"","price":"12.50","when":"2031-05-01T10:15:30Z","pos":{"lat":57.5,"tags":["x",null]},"by":null}
{"id":null,"Name":"","price":"0.05","when":null,"pos":null,"by":{"k":1}}
{"id":3,"Name":null,"price":null,"when":"2031-05-02T00:00:00.000001Z","pos":{"lat":null,"tags":[]},"by":{}}
`})
	types := []string{"--type", "price=decimal(9,2)", "--type", "by=map<string,long>"}
	must(t, append([]string{"convert", "in.ndjson", "--to", "first.parquet"}, types...))
	want := read(t, must(t, []string{"convert", "first.parquet", "--to", "want.ndjson"}), "want.ndjson")
	if !strings.Contains(want,
		`{"id":1,"Name":"a, \"b\"","price":12.50,"when":"2031-05-01T10:15:30Z","pos":{"lat":57.5,"tags":["x",null]},"by":null}`) {
		t.Error(want)
	}
	endings := []string{"parquet", "orc", "arrow", "avro"}
	must(t, []string{"convert", "first.parquet", "--to", "a.orc"})
	for _, from := range endings {
		for _, to := range endings {
			must(t, []string{"convert", "first.parquet", "--to", "a." + from, "--overwrite"})
			must(t, []string{"convert", "a." + from, "--to", "b." + to, "--overwrite"}, "3 read = 3 written")
			if got := read(t, must(t, []string{"convert", "b." + to, "--to", "c.ndjson", "--overwrite"}), "c.ndjson"); got != want {
				t.Errorf("%s to %s: %s\nwant\n%s", from, to, got, want)
			}
		}
	}
	csv := read(t, must(t, []string{"convert", "first.parquet", "--to", "out.csv"}), "out.csv")
	if wantCSV := "id,Name,price,when,pos,by\n" + `1,"a, ""b""",12.50,2031-05-01T10:15:30Z,"{""lat"":57.5,""tags"":[""x"",null]}",` +
		"\n" + `,"",0.05,,,"{""k"":1}"` + "\n" +
		`3,,,2031-05-02T00:00:00.000001Z,"{""lat"":null,""tags"":[]}",{}` + "\n"; csv != wantCSV {
		t.Errorf("%s\nwant\n%s", csv, wantCSV)
	}
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.xlsx"},
		"files ending in .xlsx are not written; name a file ending in .parquet")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.csv", "--format", "avro"}, "--format says avro")
	must(t, []string{"convert", "in.ndjson", "--to", "x.orc", "--bloom", "id"}, "3 written")
	must(t, []string{"describe", "x.orc"}, "bloom filter")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.avro", "--bloom", "id"}, "--bloom is for Parquet and ORC")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.avro", "--page-version", "2"}, "--page-version is for Parquet")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.orc", "--codec", "brotli"},
		"not written with it; use zstd, snappy, gzip, lz4, none")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.orc", "--codec", "zstd,id=none"}, "share one codec")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.csv", "--codec", "gzip"}, "text, which is packed where its ending says so")
	refused(t, 2, []string{"convert", "in.ndjson", "--to", "x.arrow", "--codec", "zstd:9"}, "without levels; write --codec zstd")
	must(t, []string{"describe", "a.orc"}, "ORC 0.12", "3 in 1 stripe", "timestamp-instant", "dictionary-v2", "2031-05-02T00:00:00")
	must(t, []string{"convert", "in.ndjson", "--to", "folder/", "--format", "ndjson", "--partition", "id"}, "3 files")
}

func read(t testing.TB, _ result, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestColumnarSources reads files of slightly different schemas together, with corrections, and loads them into a table that grows.
func TestColumnarSources(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": "id,Depth,note\n1,5,a\n2,7,b\n", "2.csv": "depth,id,extra\n1.5,3,x\n"})
	must(t, []string{"convert", "1.csv", "--to", "in/1.parquet", "--type", "id=int"})
	must(t, []string{"convert", "2.csv", "--to", "in/2.arrow"})
	must(t, []string{"infer", "in"}, "3 records in 2 objects", "id      long", "Depth   double", "the files", "extra   string")
	shown := must(t, []string{"preview", "in"}, "id  Depth  note  extra", "3   1.5")
	if strings.Contains(shown.out, "depth") {
		t.Errorf("a column stands there twice:\n%s", shown.out)
	}
	var inferred struct {
		Columns []struct{ Name, Smallest, Largest cell }
	}
	decode(t, must(t, []string{"infer", "in", "-o", "json"}).out, &inferred)
	if c := inferred.Columns[1]; c.Name != "Depth" || c.Smallest != "1.5" || c.Largest != "7" {
		t.Errorf("%+v", c)
	}
	must(t, []string{"convert", "in", "--to", "all.parquet", "--rename", "Depth=depth_m", "--drop", "note", "--lineage"},
		"3 read = 3 written")
	must(t, []string{"preview", "all.parquet"}, "depth_m", "in/2.arrow", "1.5")
	must(t, []string{"load", "in/1.parquet", "--into", "ops.r"}, "2 read = 2 written")
	must(t, []string{"load", "in/2.arrow", "--into", "ops.r", "--tolerate-misfits", "100%"}, "int → long", "added", "extra", "missing",
		"note", "unfit", "1.5")
	must(t, []string{"preview", "ops.r"}, `{"Depth":"1.5"}`)
	refused(t, 2, []string{"convert", "in", "--to", "x.parquet", "--type", "dept=long"}, "the nearest name is")
	refused(t, 3, []string{"convert", "in", "--to", "x.parquet", "--required", "note"}, `column "note" has 1 values that are null`)
	must(t, []string{"describe", "in/2.arrow"}, "Arrow IPC", "1 in 1 row group")
}

// TestLayoutFlags writes rows in order, with codecs and filters of their own, and in partitions of a stated value.
func TestLayoutFlags(t *testing.T) {
	testfolder.Make(t, map[string]string{"in.csv": "id,area,level\n3,b,1.5\n1,a,\n2,b,0.5\n"})
	must(t, []string{"load", "in.csv", "--into", "ops.r", "--sort", "area desc, level nulls last", "--codec", "zstd:9,level=none",
		"--bloom", "id", "--partition-value", "batch=2031-05", "--row-group", "2", "--file-size", "10MB"},
		"partitions  1")
	out := must(t, []string{"preview", "ops.r"}).out
	if two, three, one := strings.Index(out, "2   b"), strings.Index(out, "3   b"), strings.Index(out, "1   a"); two < 0 ||
		!(two < three && three < one) {
		t.Error(out)
	}
	must(t, []string{"describe", "ops.r"}, "sorted by       area desc, level nulls last", "partitioned by  batch")
	must(t, []string{"load", "in.csv", "--again", "--into", "ops.r", "--partition-value", "batch=2031-06"}, "3 read = 3 written")
	for _, test := range []struct{ flag, value, want string }{
		{"--sort", "zz", "no column"}, {"--codec", "zstd:99", "it has 1 to 22"},
		{"--codec", "zstd,zz=gzip", `--codec names a column "zz"`}, {"--bloom", "level", "which has no filters"},
		{"--file-size", "big", "is no size"}, {"--row-group", "0", "is no number of rows"},
		{"--partition-value", "x", "does not name a column and its value"},
	} {
		refused(t, 2, []string{"convert", "in.csv", "--to", "o/", test.flag, test.value}, test.want)
	}
	refused(t, 2, []string{"load", "in.csv", "--into", "ops.r", "--sort", "id"}, "sorted by area desc, level nulls last, not by id")
}

// A column of a columnar file that a table has no place for is kept as a misfit, in the JSON of its type: uuids and decimals too.
func TestColumnarMisfitsAreJSON(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": "id\n1\n",
		"2.csv": "id,u,price,at\n2,3f2504e0-4f89-11d3-9a0c-0305e82c3301,12.50,10:20\n"})
	must(t, []string{"load", "1.csv", "--into", "ops.r"})
	must(t, []string{"convert", "2.csv", "--to", "2.parquet", "--type", "price=decimal(9,2)", "--type", "at=time"})
	must(t, []string{"load", "2.parquet", "--into", "ops.r", "--drift", "hold"}, "1 written")
	var p struct{ Records []map[string]cell }
	decode(t, must(t, []string{"preview", "ops.r", "-o", "json"}).out, &p)
	var misfit map[string]any
	for _, r := range p.Records {
		if r["_misfit"] != "" {
			decode(t, string(r["_misfit"]), &misfit)
		}
	}
	if misfit["u"] != "3f2504e0-4f89-11d3-9a0c-0305e82c3301" || misfit["price"] != "12.50" || misfit["at"] != "10:20:00" {
		t.Errorf("%v", misfit)
	}
}
