package cli

import (
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestFoldersPassOverWhatIsOurs loads a folder that holds a warehouse, quarantine files and what a convert wrote.
func TestFoldersPassOverWhatIsOurs(t *testing.T) {
	testfolder.Make(t, map[string]string{"1.csv": "id,n\n1,2\n", "sub/2.csv": "id,n\n3,4\n5\n"})
	for range 2 {
		r := must(t, []string{"load", ".", "--again", "--into", "ops.t", "--tolerate", "1"}, "3 read = 2 written + 1 quarantined")
		if strings.Contains(r.out, "warehouse/ops") {
			t.Error(r.out)
		}
	}
	must(t, []string{"load", ".", "--again", "--into", "ops.t", "--tolerate", "1"}, "passed over", "warehouse warehouse",
		"quarantine file quarantine-ops.t-")
	must(t, []string{"preview", "."}, "warehouse warehouse passed over")
	refused(t, 3, []string{"load", "warehouse", "--into", "ops.u"}, "the warehouse warehouse was passed over")
}

// TestFilesThatStandApart refuses a folder in which one file is unlike the others.
func TestFilesThatStandApart(t *testing.T) {
	for name, content := range map[string]string{"README.md": "These files come every night.\nAsk the harbour office.\n",
		"z.ndjson": `{"x":1}` + "\n", "other.csv": "who,what\na,b\n"} {
		testfolder.Make(t, map[string]string{"in/1.csv": "id,n\n1,2\n", "in/2.csv": "id,n,more\n3,4,5\n", "in/3.csv": "id,n\n6,7\n",
			"in/" + name: content})
		for _, args := range [][]string{{"preview", "in"}, {"load", "in", "--into", "ops.t"}, {"load", "in/*", "--into", "ops.t"}} {
			refused(t, 3, args, "in/"+name)
		}
		if name == "other.csv" || name == "README.md" {
			must(t, []string{"load", "in", "--into", "ops.t", "--mixed-files"}, "written")
		}
		if name != "other.csv" {
			must(t, []string{"load", "in/**/*.csv", "--into", "ops.u"}, "3 read = 3 written")
		}
		// Files that are named are meant.
		must(t, []string{"load", "in/1.csv", "in/2.csv", "--into", "ops.v"}, "2 read = 2 written")
	}
}

// TestColumnsWithoutAType lets the first values settle what a column is.
func TestColumnsWithoutAType(t *testing.T) {
	testfolder.Make(t, map[string]string{"0.csv": "id,depth,when\n", "1.csv": "id,depth,when\n1,,\n",
		"2.csv": "id,depth,when\n2,2.5,2031-05-01\n", "3.csv": "id,depth,when\n3,deep,\n"})
	must(t, []string{"load", "0.csv", "--into", "ops.t"}, "not made, as no record came", "id, depth, when: no value was there to tell")
	refused(t, 1, []string{"describe", "ops.t"}, "ops.t")
	must(t, []string{"load", "0.csv", "--into", "ops.stated", "--type", "id=long", "--type", "depth=double", "--type", "when=date"},
		"(new table)")
	must(t, []string{"schema", "ops.stated"}, "double", "date")
	must(t, []string{"load", "1.csv", "--into", "ops.t"},
		"depth, when: no value was there to tell; string until the first values settle it")
	must(t, []string{"load", "0.csv", "--into", "ops.t"}, "0 read = 0 written")
	must(t, []string{"load", "2.csv", "--into", "ops.t"}, "settled", "double", "date")
	must(t, []string{"load", "3.csv", "--into", "ops.t"}, "unfit")
	must(t, []string{"preview", "ops.t"}, "2.5", "2031-05-01", `{"depth":"deep"}`)
	must(t, []string{"schema", "ops.t", "--history"}, "column depth, which had no values so far, becomes double")
	must(t, []string{"load", "1.csv", "--into", "ops.held"})
	must(t, []string{"load", "2.csv", "--into", "ops.held", "--drift", "hold"})
	must(t, []string{"load", "2.csv", "--again", "--into", "ops.held"}, "1 read = 1 written")
	must(t, []string{"schema", "ops.held"}, "depth   string")
}

// TestColumnsNamedLikeParts takes columns that bear the names of the parts of lists and maps for columns all the same.
func TestColumnsNamedLikeParts(t *testing.T) {
	header := "id,key,value,element\n"
	testfolder.Make(t, map[string]string{"0.csv": header, "1.csv": header + "1,,,\n", "2.csv": header + "2,5,2.5,2031-05-01\n"})
	must(t, []string{"load", "0.csv", "--into", "ops.t"}, "id, key, value, element: no value was there to tell")
	must(t, []string{"load", "1.csv", "--into", "ops.t"}, "key, value, element: no value was there to tell")
	must(t, []string{"load", "2.csv", "--into", "ops.t"}, "settled")
	must(t, []string{"schema", "ops.t"}, "value    double", "element  date")
}

// TestNoRecord refuses sources that have bytes and give nothing.
func TestNoRecord(t *testing.T) {
	testfolder.Make(t, map[string]string{"e.json": "[]", "c.csv": "a,b\n"})
	for _, args := range [][]string{{"load", "e.json", "--into", "ops.t"}, {"convert", "e.json", "--to", "x.parquet"},
		{"infer", "e.json"}} {
		refused(t, 3, args, "has 2 bytes, but no record")
	}
	must(t, []string{"convert", "c.csv", "--to", "x.parquet"}, "no type yet", "written as string")
	if _, err := os.Stat("warehouse"); err == nil {
		t.Error("a warehouse was made for nothing")
	}
}

// TestStatedTypesThatDoNotFit stops where most values of a stated column are none of its type.
func TestStatedTypesThatDoNotFit(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,area\n1,north\n2,south\n3,7\n4,8\n5,\n6,east\n",
		"n.ndjson": `{"r":[{"v":"x"},{"v":"y"},{"v":1}]}` + "\n"})
	args := []string{"load", "a.csv", "--into", "ops.t", "--type", "area=long"}
	refused(t, 3, args, `column "area": 3 of 5 values are not long, as the column is pinned: "north" (a.csv:2), "south" (a.csv:3), "east" (a.csv:7)`)
	refused(t, 3, []string{"convert", "a.csv", "--to", "x.parquet", "--type", "area=long"}, "--tolerate-misfits 100%")
	refused(t, 3, []string{"convert", "n.ndjson", "--to", "x.parquet", "--type", "r.v=long"},
		`column "r.element.v": 2 of 3 values are not long`)
	must(t, append(args, "--tolerate-misfits", "100%"), "unfit", "3")
	must(t, []string{"load", "a.csv", "--into", "ops.u", "--type", "area=long", "--tolerate-misfits", "3"}, "unfit")
	refused(t, 3, []string{"load", "a.csv", "--into", "ops.v", "--type", "area=long", "--tolerate-misfits", "2"}, "3 of 5")
	refused(t, 2, append(args, "--tolerate-misfits", "some"), `--tolerate-misfits "some" is no limit`)
}

// TestStatedNulls takes a number for no value where that is said.
func TestStatedNulls(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id,v,ok,at\n1,-999,true,2031-05-01T00:00:00\n2,5,false,1900-01-01T00:00:00\n3,7,,\n",
		"n.ndjson": "{\"v\":-999}\n{\"v\":5.5}\n{\"v\":\"-999\"}\n"})
	must(t, []string{"infer", "a.csv", "--nulls", "-999,false,1900-01-01T00:00:00"}, "v       long", "67%", `taken for null: "-999" (1)`)
	must(t, []string{"convert", "a.csv", "--to", "a.ndjson", "--nulls", "-999,false,1900-01-01T00:00:00"})
	if got, want := read(t, result{},
		"a.ndjson"), `{"id":1,"v":null,"ok":true,"at":"2031-05-01T00:00:00"}`+"\n"+`{"id":2,"v":5,"ok":null,"at":null}`+"\n"+`{"id":3,"v":7,"ok":null,"at":null}`+"\n"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	must(t, []string{"load", "n.ndjson", "--into", "ops.t", "--nulls=-999"}, "2 values were taken for null in v")
	must(t, []string{"schema", "ops.t"}, "double")
}

// TestOwnNames keeps columns that the program fills apart from those of the source.
func TestOwnNames(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "_misfit,id\nx,1\n", "b.csv": "id,_Lineage_Row\n1,2\n", "1.ndjson": `{"a":1}` + "\n",
		"2.ndjson": `{"a":"x"}` + "\n", "3.ndjson": `{"a":"y","_misfit":"mine"}` + "\n"})
	refused(t, 2, []string{"load", "a.csv", "--into", "ops.t"}, `the source has a column "_misfit"`)
	refused(t, 2, []string{"load", "b.csv", "--into", "ops.t"}, `"_Lineage_Row"`)
	must(t, []string{"load", "a.csv", "--into", "ops.t", "--rename", "_misfit=before"}, "1 read = 1 written")
	must(t, []string{"load", "b.csv", "--into", "ops.u", "--drop", "_Lineage_Row"}, "1 read = 1 written")
	refused(t, 2, []string{"load", "a.csv", "--into", "ops.v", "--drop", "_misfit", "--partition-value", "_misfit=x"},
		"--partition-value names the column _misfit")
	must(t, []string{"load", "1.ndjson", "--into", "ops.w"})
	must(t, []string{"load", "2.ndjson", "--into", "ops.w"}, "_misfit")
	refused(t, 2, []string{"load", "3.ndjson", "--into", "ops.w"}, `the source has a column "_misfit"`)
}

// TestNULBytes keeps them in texts.
func TestNULBytes(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "a,b\n1,x\x00y\n", "a.ndjson": "{\"a\":\"x\"}\n{\"a\":\"x\x00y\"}\n",
		"junk": strings.Repeat("\x00\x01\x02\x03abc", 100)})
	must(t, []string{"convert", "a.csv", "--to", "x.ndjson"}, "1 read = 1 written")
	if got := read(t, result{}, "x.ndjson"); got != `{"a":1,"b":"x\u0000y"}`+"\n" {
		t.Error(got)
	}
	refused(t, 3, []string{"load", "a.ndjson", "--into", "ops.t"}, "a control character stands in a string")
	refused(t, 3, []string{"load", "junk", "--into", "ops.t"}, "is mostly no text")
	must(t, []string{"preview", "junk", "--encoding", "utf-8"}, "junk")
}

// TestLinesAboveTheHeader leaves them out and says so; stating that none are to be keeps them.
func TestLinesAboveTheHeader(t *testing.T) {
	testfolder.Make(t, map[string]string{"t.csv": "Stations of the sound, spring\nid,name,depth\n1,a,2.5\n2,b,3.5\n",
		"c.csv": "# made by hand\n\nid,name,depth\n1,a,2.5\n2,b,3.5\n"})
	for file, said := range map[string]string{"t.csv": `1 line above the table of t.csv, no part of it: "Stations of the sound, spring"`,
		"c.csv": ""} {
		must(t, []string{"load", file, "--into", "ops.t"}, "2 read = 2 written", said)
		must(t, []string{"load", file, "--again", "--into", "ops.t", "--skip-rows", "1"}, "2 read = 2 written")
		must(t, []string{"preview", "ops.t"}, "id  name  depth")
	}
	refused(t, 3, []string{"load", "t.csv", "--into", "ops.u", "--skip-rows", "0"},
		"t.csv:1: the record has 2 fields where 3 are expected")
}
