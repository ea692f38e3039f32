package cli

import (
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"trevak/internal/testfolder"
)

// pageOf reads a page, and holds that it needs nothing else and is well formed where a reader of XML can tell.
func pageOf(t *testing.T, file string, wants ...string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	page := string(text)
	for _, part := range []string{"<script", "http://", "https://", "src=", "@import", "url("} {
		if strings.Contains(page, part) {
			t.Errorf("%s is not self-contained: it has %s", file, part)
		}
	}
	for _, want := range wants {
		if !strings.Contains(page, want) {
			t.Errorf("%s lacks %q", file, want)
		}
	}
	// Elements that have no end are given one; everything else of the page is as XML has it.
	body := page[strings.Index(page, "<body>"):strings.Index(page, "</html>")]
	d := xml.NewDecoder(strings.NewReader(body))
	d.Entity = xml.HTMLEntity
	for {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatalf("%s: %v", file, err)
		}
	}
	return page
}

// TestPages writes a page for each command that has them.
func TestPages(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings, "bad.csv": "a,b\n1,2\n3\n4,<b>5</b>\n", "mine.html": "<p>mine</p>\n",
		"more.csv": strings.Replace(readings, "12.5", "deep & <dark>", 1),
		"n.ndjson": `{"id":1,"l":[{"a":1},{"a":2}],"o":{"a":1}}` + "\n" + `{"id":2,"l":[],"o":null}` + "\n"})
	must(t, []string{"infer", "r.csv", "--report", "i.html"}, "depth_m")
	pageOf(t, "i.html", "<title>r.csv</title>", "Every record can be read.", "depth_m", "timestamptz", "How values are distributed", "class=\"common\"",
		"0001", "--key Buoy_Code", "Buoy Code", "prefers-color-scheme: dark", "@media print")
	must(t, []string{"load", "r.csv", "--into", "ops.r", "--report", "l.html"}, "3 written")
	pageOf(t, "l.html", "<title>ops.r</title>", "The account adds up: 3 read = 3 written", "Snapshot ", "Sizes by column", "depth_m", "r.csv")
	must(t, []string{"load", "more.csv", "--into", "ops.r", "--report", "l.html"}, "unfit")
	pageOf(t, "l.html", "Differences from the table", "unfit", "deep &amp; &lt;dark&gt;", "more.csv:2", "Misfits are kept in the column _misfit")
	must(t, []string{"load", "n.ndjson", "--into", "ops.n", "--split", "l=ops.l", "--report", "s.html"}, "ops.l")
	pageOf(t, "s.html", "Account of ops.l", "How values are distributed in ops.l")
	refused(t, 3, []string{"load", "bad.csv", "--into", "ops.b", "--quarantine", "q.ndjson", "--report", "b.html"}, "bad.csv:3")
	pageOf(t, "b.html", "Nothing was loaded: bad.csv:3", "cannot become rows", "too-few-fields", "q.ndjson", "class=\"verdict bad\"")
	refused(t, 3, []string{"load", "more.csv", "--again", "--into", "ops.r", "--drift", "stop", "--report", "stop.html"}, "refuses any difference")
	pageOf(t, "stop.html", "Differences from the table", "deep &amp;")
	must(t, []string{"weigh", "r.csv", "--report", "w.html"}, "Favoring")
	pageOf(t, "w.html", "Codecs", "zstd:3", "What reading costs", "How values are distributed")
	must(t, []string{"load", "r.csv", "--again", "--into", "ops.r", "--dry-run", "--report", "d.html"}, "nothing was written")
	pageOf(t, "d.html", "Nothing was written; a load would do this.")

	refused(t, 2, []string{"infer", "r.csv", "--report", "mine.html"}, "is there already, and is no page of this program")
	refused(t, 2, []string{"infer", "r.csv", "--report", "i.pdf"}, "is no .html file")
	refused(t, 2, []string{"load", "r.csv", "--into", "ops.r", "--report", filepath.Join("none", "i.html")}, "there is no folder none")
	if text, err := os.ReadFile("mine.html"); err != nil || string(text) != "<p>mine</p>\n" {
		t.Errorf("%s, %v", text, err)
	}
}
