package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"strings"
	"testing"

	"trevak/internal/render"
	"trevak/internal/testfolder"
)

// TestPagingSideways presses keys on a table of three parts.
func TestPagingSideways(t *testing.T) {
	part := func(at int) string {
		if at < 0 || at > 2 {
			return ""
		}
		return fmt.Sprintf("head\nrow\npart %d", at)
	}
	for keys, want := range map[string]string{
		"q":             "0",
		"\x1b[Cq":       "0 1",
		"  q":           "0 1 2",
		"   q":          "0 1 2", // there is none behind the last
		"\x1b[D\x1b[Cq": "0 1",   // nor before the first
		" \x1b[D q":     "0 1 0 1",
		"xyz\x03":       "0",
		"\x1bOC\x1b":    "0 1",
		"":              "0",
	} {
		var out bytes.Buffer
		page(bufio.NewReader(strings.NewReader(keys)), &out, part)
		var seen []string
		for piece := range strings.SplitSeq(out.String(), "row\r\npart ") {
			if len(piece) > 0 && piece[0] >= '0' && piece[0] <= '9' {
				seen = append(seen, piece[:1])
			}
		}
		if strings.Join(seen, " ") != want || !strings.HasSuffix(out.String(), fmt.Sprintf("\x1b[Kpart %s\r\n", want[len(want)-1:])) {
			t.Errorf("%q shows %v, want %s: %q", keys, seen, want, out.String())
		}
	}
}

// TestWideTablesComeInParts has a table of more columns than there is room for shown part by part, where somebody asks for them.
func TestWideTablesComeInParts(t *testing.T) {
	table := render.Table{Header: []string{"id"}, Rows: [][]string{{"1"}, {"2"}}}
	for c := range 20 {
		table.Header = append(table.Header, fmt.Sprintf("a longer name %d", c))
		for r := range table.Rows {
			table.Rows[r] = append(table.Rows[r], fmt.Sprintf("value %d of %d", c, r))
		}
	}
	var out bytes.Buffer
	s := render.Screen{Writer: &out, Width: 60, Sideways: func(rows int, part func(at int) string) bool {
		all := ""
		for at := 0; part(at) != ""; at++ {
			for line := range strings.Lines(part(at)) {
				if len([]rune(strings.TrimRight(line, "\n"))) > 60 {
					t.Errorf("%q is too long", line)
				}
			}
			if at > 0 && !strings.HasPrefix(part(at), "id  ") {
				t.Errorf("part %d does not begin with the first column: %s", at, part(at))
			}
			all += part(at)
		}
		for c := range 20 {
			if !strings.Contains(all, fmt.Sprintf("a longer name %d ", c)) && !strings.Contains(all, fmt.Sprintf("a longer name %d\n", c)) {
				t.Errorf("column %d is in no part", c)
			}
		}
		return rows == 2
	}}
	table.Write(s)
	if out.Len() > 0 {
		t.Errorf("the table is there twice: %s", out.String())
	}
}

func TestColumnsShown(t *testing.T) {
	testfolder.Make(t, map[string]string{"r.csv": readings})
	r := must(t, []string{"preview", "r.csv", "--columns-shown", "note,1"}, "note         Buoy Code", "calm, clear  0001")
	if strings.Contains(r.out, "depth (m)  ") {
		t.Errorf("%s", r.out)
	}
	must(t, []string{"preview", "r.csv", "--columns-shown", "2-3"}, "observed at           depth (m)\n")
	r = must(t, []string{"infer", "r.csv", "--columns-shown", "depth_m"}, "depth_m  double")
	if strings.Contains(r.out, "Buoy_Code  string") {
		t.Errorf("%s", r.out)
	}
	refused(t, 2, []string{"preview", "r.csv", "--columns-shown", "depht (m)"}, `there is no column "depht (m)"; the nearest name is depth (m)`)
	refused(t, 2, []string{"infer", "r.csv", "--columns-shown", "9"}, `there is no column "9"; the columns are Buoy_Code, `)
	refused(t, 2, []string{"infer", "r.csv", "--columns-shown", "note", "-o", "json"}, "has no effect with -o json")
}
