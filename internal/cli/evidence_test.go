package cli

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// TestEvidenceIsTrue holds what infer shows against what is in the files.
func TestEvidenceIsTrue(t *testing.T) {
	var many strings.Builder
	many.WriteString("key,some,t\n")
	for i := range 6000 {
		fmt.Fprintf(&many, "k%d,%d,2031-05-01T00:00:%02dZ\n", i, i%3000, i%60)
	}
	testfolder.Make(t, map[string]string{"tokens.csv": "id,v,w\n1,NA,calm\n2,3,NA\n3,NA,rough\n", "many.csv": many.String(),
		"list.ndjson":  `{"l":[1,2,3]}` + "\n" + `{"l":5}` + "\n" + `{"l":6}` + "\n" + `{"l":7}` + "\n",
		"instants.csv": "at,n\n2031-05-01T00:00:00Z,1\n2031-05-01T02:00:00+02:00,2\n", "numbers.csv": "n,m\n1.0,a\n1.00,b\n",
		"wide.csv": "v\n7\n", "whole.csv": "v\n2147483647\n", "beyond.csv": "v\n2147483648\n"})
	type column struct {
		Values, Nulls, Distinct int
		Exact                   bool `json:"distinct_exact"`
		Smallest, Largest       cell
		Longest                 int
		Lengths                 struct{ Median int }
		Parts                   []column
	}
	infer := func(file string) (columns []column, keys []string) {
		var got struct {
			Columns []column
			Keys    []struct {
				Column string
				Proven bool
			} `json:"key_candidates"`
		}
		decode(t, must(t, []string{"infer", file, "-o", "json"}).out, &got)
		for _, k := range got.Keys {
			keys = append(keys, fmt.Sprint(k.Column, " ", k.Proven))
		}
		return got.Columns, keys
	}
	c, _ := infer("tokens.csv")
	if v, w := c[1], c[2]; v.Values != 1 || v.Nulls != 2 || v.Distinct != 1 || v.Smallest != "3" || v.Largest != "3" || v.Longest != 1 ||
		w.Values != 3 || w.Nulls != 0 || w.Distinct != 3 || w.Smallest != "NA" {
		t.Errorf("%+v, %+v", v, w)
	}
	if c, keys := infer("many.csv"); c[0].Distinct != 6000 || !c[0].Exact || c[1].Distinct != 3000 || !c[1].Exact ||
		strings.Join(keys, ",") != "key true" {
		t.Errorf("%+v, %v", c, keys)
	}
	if c, _ := infer("list.ndjson"); c[0].Lengths.Median != 1 || c[0].Parts[0].Distinct != 6 || c[0].Parts[0].Largest != "7" ||
		c[0].Parts[0].Values != 6 {
		t.Errorf("%+v", c)
	}
	if _, keys := infer("instants.csv"); strings.Join(keys, ",") != "n true" {
		t.Errorf("two spellings of one instant: %v", keys)
	}
	must(t, []string{"load", "wide.csv", "--into", "ops.t", "--type", "v=int"})
	must(t, []string{"load", "whole.csv", "--into", "ops.t", "--drift", "stop"}, "1 read = 1 written")
	must(t, []string{"load", "whole.csv", "--into", "ops.u", "--type", "v=int"})
	must(t, []string{"schema", "ops.t"}, " int")
}

// TestAccountsOfOtherForms adds up for each file, records and rows apart.
func TestAccountsOfOtherForms(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/a.ndjson": `{"id":1,"r":[{"v":1},{"v":2}]}` + "\n" + `{"id":2,"r":[]}` + "\n" + "{broken\n",
		"in/b.ndjson": `{"id":3,"r":[{"v":5}]}` + "\n"})
	out := must(t, []string{"convert", "in", "--to", "x.ndjson", "--where", "id <> 2", "--unnest", "r", "--tolerate", "1", "--quarantine",
		"q"},
		"4 read = 2 kept + 1 filtered + 1 quarantined + 0 skipped; those kept made 3 rows").out
	for _, want := range []string{"object       bytes  read  kept  filtered  quarantined  skipped  rows",
		"in/a.ndjson     55     3     1         1            1        0     2",
		"in/b.ndjson     23     1     1         0            0        0     1"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
	must(t, []string{"convert", "in/b.ndjson", "--to", "c.parquet", "--unnest", "r", "--codec", "auto"}, "made 1 row")
}

// TestHostileInput is answered by a result or a refusal, and not by all the memory there is.
func TestHostileInput(t *testing.T) {
	object := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, ",\"key %d\":%d", i, i)
		}
		return "{" + b.String()[1:] + "}"
	}
	var bomb bytes.Buffer
	w := zip.NewWriter(&bomb)
	for i := range 2000 {
		m, err := w.Create(fmt.Sprintf("f%04d.csv", i))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(m, "id,n\n%d,2\n", i)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	testfolder.Make(t, map[string]string{"keys.ndjson": object(50_000) + "\n", "inner.ndjson": `{"a":` + object(50_000) + "}\n",
		"deep.ndjson": strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000) + "\n",
		"long.csv":    "id,t\n1," + strings.Repeat("x", 8<<20) + "\n", "many.zip": bomb.String()})
	refused(t, 3, []string{"load", "keys.ndjson", "--into", "ops.t"}, "has records with more than 20000 different keys")
	must(t, []string{"convert", "inner.ndjson", "--to", "inner.parquet"}, "1 read = 1 written")
	refused(t, 2, []string{"convert", "deep.ndjson", "--to", "d.parquet", "--max-depth", "6000"}, "--max-depth 6000 is more than 500")
	must(t, []string{"convert", "long.csv", "--to", "long.parquet"}, "1 read = 1 written")
	if info, err := os.Stat("long.parquet"); err != nil || info.Size() > 1<<20 {
		t.Errorf("a long text stands in the file more than once: %v, %v", info.Size(), err)
	}
	must(t, []string{"convert", "many.zip", "--to", "many.parquet"}, "2,000 read = 2,000 written")
	var broad strings.Builder
	broad.WriteString("id")
	for i := range 19_500 {
		fmt.Fprintf(&broad, ",a column with quite a long name %d", i)
	}
	if err := os.WriteFile("broad.csv", []byte(broad.String()+"\n1"+strings.Repeat(",2", 19_500)+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	refused(t, 3, []string{"load", "broad.csv", "--into", "ops.t"}, "more than the 1044480 that the table's manifests have room for")
}

// TestNamesThatCannotBe are shown escaped, or refused.
func TestNamesThatCannotBe(t *testing.T) {
	odd := "in/a\x1b[31mb\n.csv"
	testfolder.Make(t, map[string]string{odd: "id,n\n1,2\n", "n.csv": "id,a/b,x\x01y\n1,p,q\n"})
	for _, args := range [][]string{{"preview", "in"}, {"load", "in", "--into", "ops.t"}, {"infer", "in"},
		{"load", odd, "--into", "ops.t", "--sort", "nope"}, {"load", "in/a\x1b[31mc", "--into", "ops.t"}, {"describe", odd}} {
		if r := trevak(t, args...); strings.Contains(r.out+r.err, "\x1b") {
			t.Errorf("%v: %q", args, r.out+r.err)
		}
	}
	refused(t, 2, []string{"load", "n.csv", "--into", "ops.u", "--names", "keep"}, "holds a control character")
	refused(t, 2, []string{"convert", "n.csv", "--to", "x/", "--names", "keep", "--partition", "a/b", "--drop", "x\x01y"},
		"its name stands in the names of folders")
	must(t, []string{"convert", "n.csv", "--to", "x.ndjson", "--names", "keep"}, "1 read = 1 written")
	must(t, []string{"load", "n.csv", "--into", "ops.u"}, "a_b", "x_y")
}
