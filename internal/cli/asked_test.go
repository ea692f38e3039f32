package cli

import (
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestFilesAsTheyCome reads files of many forms without saying anything of them.
func TestFilesAsTheyCome(t *testing.T) {
	lines := func(n int, format string) string {
		return strings.Repeat(format, n)
	}
	tests := []struct{ what, name, text, want, said string }{
		{"a title above the header", "a.csv", "Stations of the sound\n\nCode,Depth (m)\nOS-1,3.5\nOS-2,4\n",
			`{"Code":"OS-1","Depth_m":3.5} {"Code":"OS-2","Depth_m":4}`, `no part of it: "Stations of the sound"`},
		{"a comment above the header", "a.csv", "# made by hand\nCode,Depth\nOS-1,3.5\nOS-2,4\n",
			`{"Code":"OS-1","Depth":3.5} {"Code":"OS-2","Depth":4}`, ""},
		{"a count above the records", "a.csv", "3,3,calm,rough\n1.5,2,0,1\n2.5,2,1,1\n3.5,2,0,0\n",
			`{"c1":1.5,"c2":2,"c3":0,"c4":1} {"c1":2.5,"c2":2,"c3":1,"c4":1} {"c1":3.5,"c2":2,"c3":0,"c4":0}`, "no part of it"},
		{"units below the names", "a.csv", "at,depth,sway\n,(m),(deg)\n2031-05-01,1,2\n2031-05-02,2,3\n",
			`{"at":"2031-05-01","depth_m":1,"sway_deg":2} {"at":"2031-05-02","depth_m":2,"sway_deg":3}`, ""},
		{"years as names", "a.csv", "area,2029,2030,2031\nCairn Bay,5,3,9\nThe Narrows,4,4,1\n",
			`{"area":"Cairn Bay","_2029":5,"_2030":3,"_2031":9} {"area":"The Narrows","_2029":4,"_2030":4,"_2031":1}`, ""},
		{"blanks as delimiter", "a.txt", " code   depth\n   1    2.5\n  12   10\n", `{"code":1,"depth":2.5} {"code":12,"depth":10}`, ""},
		{"blanks after the delimiter", "a.csv", "area, depth, note\n\"Cairn Bay\", 2.5, \"calm, clear\"\n\"The Narrows\", 3, \"rough\"\n",
			`{"area":"Cairn Bay","depth":2.5,"note":"calm, clear"} {"area":"The Narrows","depth":3,"note":"rough"}`, ""},
		{"a header one short", "a.csv", "depth,sway\nOS-1,2.5,1\nOS-2,3.5,4\n",
			`{"row_name":"OS-1","depth":2.5,"sway":1} {"row_name":"OS-2","depth":3.5,"sway":4}`, ""},
		{"optional fields at the end", "a.csv", "code,depth,sway,note\n" + lines(3, "OS-1,2.5,1,calm\n") + "OS-2,3.5,4\n",
			`{"code":"OS-1","depth":2.5,"sway":1,"note":"calm"} {"code":"OS-1","depth":2.5,"sway":1,"note":"calm"} {"code":"OS-1","depth":2.5,"sway":1,"note":"calm"} {"code":"OS-2","depth":3.5,"sway":4,"note":null}`, "1 record lacked fields"},
		{"a delimiter behind the last field", "a.csv", "code,depth,\nOS-1,2,\nOS-2,3,\n",
			`{"code":"OS-1","depth":2} {"code":"OS-2","depth":3}`, ""},
		{"tildes", "a.txt", "code~depth\nOS-1~2\nOS-2~3\n", `{"code":"OS-1","depth":2} {"code":"OS-2","depth":3}`, ""},
		{"control characters", "a.txt", "code\x1fdepth\nOS-1\x1f2\nOS-2\x1f3\n", `{"code":"OS-1","depth":2} {"code":"OS-2","depth":3}`,
			""},
		{"quotes that are none", "a.tsv", "code\tnote\nOS-1\t\"long\" swell\nOS-2\tcalm\nOS-3\t5\" of rain\n",
			`{"code":"OS-1","note":"\"long\" swell"} {"code":"OS-2","note":"calm"} {"code":"OS-3","note":"5\" of rain"}`, ""},
		{"numbers as they are written", "a.csv", "a,b,c\n1.800000000000000000e+01,5.,1\n6.320000000000000097e-03,.5,1e15\n",
			`{"a":18,"b":5,"c":1} {"a":0.00632,"b":0.5,"c":1000000000000000}`, ""},
		{"names of months", "a.csv", "a,b\n18 Oct 1812,02:05 PM\n3 May 1999,11:59 AM\n",
			`{"a":"1812-10-18","b":"14:05:00"} {"a":"1999-05-03","b":"11:59:00"}`, ""},
		{"a minified document", "a.json", `{"count":2,"items":[{"id":1},{"id":2}]}`, `{"id":1} {"id":2}`, ""},
		{"a document whose first line is none", "a.json", "{\"set\":1,\"items\":[{\"id\":1},\n{\"id\":2},\n{\"id\":3}]}",
			`{"id":1} {"id":2} {"id":3}`, ""},
		{"keys that are values", "a.json", `{"OS-1":{"m":1},"OS-2":{"m":2},"OS-3":{"m":3},"OS-4":{"m":4},"OS-5":{"m":5}}`,
			`{"_key":"OS-1","m":1} {"_key":"OS-2","m":2} {"_key":"OS-3","m":3} {"_key":"OS-4","m":4} {"_key":"OS-5","m":5}`, ""},
		{"texts in an array", "a.json", `["Cairn Bay","The Narrows"]`, `{"value":"Cairn Bay"} {"value":"The Narrows"}`, ""},
		{"empty keys", "a.ndjson", "{\"c1\":1,\"\":2}\n{\"c1\":3,\"\":4}\n", `{"c1":1,"c2":2} {"c1":3,"c2":4}`, ""},
		{"lists of differing depth", "a.ndjson", "{\"at\":[[1.5,2],[3,4]]}\n{\"at\":[[[1.5,2]]]}\n",
			`{"at":"[[1.5,2],[3,4]]"} {"at":"[[[1.5,2]]]"}`, ""},
		{"text beside an attribute called text", "a.xml", `<r><c><s text="x">18258</s></c><c><s>7</s></c></r>`,
			`{"s":{"text":"x","own_text":18258}} {"s":{"text":null,"own_text":7}}`, ""},
		{"one record", "a.xml", `<log><entry><a>1</a><t>x</t><t>y</t></entry></log>`, `{"a":1,"t":["x","y"]}`, ""},
	}
	for _, test := range tests {
		testfolder.Make(t, map[string]string{test.name: test.text})
		r := must(t, []string{"convert", test.name, "--to", "o.ndjson"}, test.said)
		if got := strings.Join(strings.Fields(strings.ReplaceAll(read(t, r, "o.ndjson"), " ", "\x00")), " "); strings.ReplaceAll(got,
			"\x00", " ") != test.want {
			t.Errorf("%s: %s\nwant %s", test.what, strings.ReplaceAll(got, "\x00", " "), test.want)
		}
	}
}

// TestWhatCannotBeKnownIsAsked refuses with both readings, and takes each of them when it is stated.
func TestWhatCannotBeKnownIsAsked(t *testing.T) {
	testfolder.Make(t, map[string]string{
		"words.csv": "swell,calm\nhaze,rough\nfog,mild\n",
		"two.json":  `{"stations":[{"id":1},{"id":2},{"id":3}],"readings":[{"v":1},{"v":2},{"v":3}]}`,
		"a.json":    `{"count":1,"items":[{"id":1},{"id":2}]}`, "b.json": `{"rows":[{"id":3},{"id":4}]}`,
		"c.json": `{"items":[{"id":5},{"id":6}]}`,
	})
	for _, said := range []string{`"swell", "calm" could be names`, "--header or --no-header", "--unsure go"} {
		refused(t, 2, []string{"convert", "words.csv", "--to", "o.ndjson"}, said)
	}
	must(t, []string{"preview", "words.csv"}, "(unsure); --header takes the first record as names")
	must(t, []string{"infer", "words.csv", "--header"}, "2 records")
	must(t, []string{"convert", "words.csv", "--to", "o.ndjson", "--unsure", "go"}, "unsure   header no")
	if r := must(t, []string{"convert", "words.csv", "--to", "p.ndjson", "--unsure", "go", "-o", "json"}); !strings.Contains(r.out,
		`"rule": "header"`) {
		t.Error(r.out)
	}
	testfolder.Make(t, map[string]string{"regions.csv": ",Content\nV1,Does the swell stand in from the west?\nV2,Is there haze on " +
		"most days of May?\nV3,Are the buoys lit by night?\n"})
	must(t, []string{"convert", "regions.csv", "--to", "o.ndjson"}, "unsure   header yes")
	refused(t, 2, []string{"convert", "regions.csv", "--to", "q.ndjson", "--unsure", "stop"}, "say --header or --no-header")
	testfolder.Make(t, map[string]string{
		"two.json": `{"stations":[{"id":1},{"id":2},{"id":3}],"readings":[{"v":1},{"v":2},{"v":3}]}`,
		"a.json":   `{"count":1,"items":[{"id":1},{"id":2}]}`, "b.json": `{"rows":[{"id":3},{"id":4}]}`,
		"c.json": `{"items":[{"id":5},{"id":6}]}`,
	})
	for _, said := range []string{"$.stations[*] (3, with id); $.readings[*] (3, with v)", "--records '$.stations[*]'", "--records '$'"} {
		refused(t, 2, []string{"convert", "two.json", "--to", "o.ndjson"}, said)
	}
	must(t, []string{"convert", "two.json", "--to", "o.ndjson", "--records", "$.readings[*]"}, "3 written")
	must(t, []string{"convert", "two.json", "--to", "p.ndjson", "--records", "$"}, "1 written")
	refused(t, 3, []string{"convert", "a.json", "b.json", "c.json", "--to", "q.ndjson"},
		"b.json: has its records at $.rows[*], while 2 objects of the source have them at $.items[*]")
	must(t, []string{"convert", "a.json", "c.json", "--to", "q.ndjson"}, "4 written")
	must(t, []string{"convert", "a.json", "b.json", "--to", "r.ndjson", "--records", "$.*[*]"}, "4 written")
}

// TestSaidOfTheReading drives what is stated of documents and texts.
func TestSaidOfTheReading(t *testing.T) {
	testfolder.Make(t, map[string]string{
		"wide.txt":   "OS-1   2.5calm\nOS-12 10  \nOS-3   1  rough seas\n",
		"n.ndjson":   "{\"v\":NaN}\n{\"v\":1.5}\n",
		"kinds.xml":  `<log><buoy id="1"/><keel n="2"/><buoy id="3"/></log>`,
		"mixed.xml":  `<log xmlns:m="u"><e><note>a <b>bold</b> word</note><m:at>x</m:at></e><e><note>plain</note><m:at>y</m:at></e></log>`,
		"p.csv":      "id,payload\n1,\"{\"\"depth\"\":1.5,\"\"at\"\":[1,2]}\"\n2,\"{\"\"depth\"\":2}\"\n3,broken\n",
		"zone.csv":   "a,b\n1,2\n3,4\n",
		"g.geojson":  `{"type":"FeatureCollection","features":[{"type":"Feature","id":7,"properties":{"area":"Cairn Bay"},"geometry":{"type":"Point","coordinates":[-5.5,57.25]}}]}`,
		"deep.json":  `{"areas":{"a":{"buoys":[{"x":1}]},"b":{"buoys":[{"x":2}]}}}`,
		"many.json":  "{\"a\":[{\"x\":1}]}\n{\"a\":[{\"x\":2}]}\n",
		"table.ndjs": "",
	})
	for _, test := range []struct {
		args string
		want string
	}{
		{"wide.txt --widths 5,5,10 --no-header",
			`{"c1":"OS-1","c2":2.5,"c3":"calm"} {"c1":"OS-12","c2":10,"c3":null} {"c1":"OS-3","c2":1,"c3":"rough seas"}`},
		{"n.ndjson --json-numbers lenient", `{"v":"NaN"} {"v":1.5}`},
		{"kinds.xml --records buoy --records keel",
			`{"_kind":"buoy","id":1,"n":null} {"_kind":"keel","id":null,"n":2} {"_kind":"buoy","id":3,"n":null}`},
		{"mixed.xml --mixed-content text --xml-prefixes", `{"note":"a <b>bold</b> word","m_at":"x"} {"note":"plain","m_at":"y"}`},
		{"p.csv --type payload=json --tolerate-misfits 50%",
			`{"id":1,"payload":{"depth":1.5,"at":[1,2]},"_misfit":null} {"id":2,"payload":{"depth":2,"at":null},"_misfit":null} {"id":3,"payload":null,"_misfit":"{\"payload\":\"broken\"}"}`},
		{"zone.csv --header --columns a,b,c", ""},
		{"zone.csv --no-header --columns x,y,z", `{"x":"a","y":"b","z":null} {"x":"1","y":"2","z":null} {"x":"3","y":"4","z":null}`},
		{"g.geojson --geometry wkb",
			`{"id":7,"area":"Cairn Bay","geometry":"AQEAAAAAAAAAAAAWwAAAAAAAoExA","geometry_bbox":{"xmin":-5.5,"ymin":57.25,"xmax":-5.5,"ymax":57.25}}`},
		{"deep.json --records $.areas.*.buoys[*]", `{"_key":"a","x":1} {"_key":"b","x":2}`},
		{"many.json --records $.a[*]", `{"x":1} {"x":2}`},
	} {
		args := append(append([]string{"convert"}, strings.Fields(test.args)...), "--to", "o.ndjson", "--overwrite")
		if test.want == "" {
			continue
		}
		r := must(t, args)
		if got := strings.TrimSpace(strings.ReplaceAll(read(t, r, "o.ndjson"), "\n", " ")); got != test.want {
			t.Errorf("%s: %s\nwant %s", test.args, got, test.want)
		}
	}
	must(t, []string{"infer", "p.csv", "--no-header"}, "payload")
	refused(t, 2, []string{"convert", "zone.csv", "--geometry", "wkb", "--to", "x.parquet"}, "is no collection of features")
	refused(t, 2, []string{"convert", "deep.json", "--geometry", "wkb", "--to", "x.parquet"}, "is no collection of features")
	refused(t, 2, []string{"convert", "wide.txt", "--widths", "5,x", "--to", "x.parquet"}, `"x", which is no width`)
	refused(t, 2, []string{"convert", "wide.txt", "--widths", "5", "--delimiter", ",", "--to", "x.parquet"},
		"leaves no room for --delimiter")
	refused(t, 2, []string{"convert", "deep.json", "--records", "$[?@.x>1]", "--to", "x.parquet"}, "--where")
}

// TestWholeNumbersFitTables loads whole numbers that are written with a point into a column of whole numbers.
func TestWholeNumbersFitTables(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.ndjson": "{\"n\":1}\n", "b.ndjson": "{\"n\":2780400.0}\n{\"n\":7.692024e+06}\n",
		"c.ndjson": "{\"n\":1.5}\n"})
	must(t, []string{"load", "a.ndjson", "--into", "ops.n"})
	must(t, []string{"load", "b.ndjson", "--into", "ops.n"}, "2 written")
	must(t, []string{"preview", "ops.n"}, "2780400", "7692024")
	must(t, []string{"load", "c.ndjson", "--into", "ops.n"}, "unfit")
}
