package render

import (
	"trevak/internal/check"
)

// Checked tells what rules came to for the rows of a table.
func Checked(s Screen, c *check.Checked) {
	s.Printf("%s: %s held against %s\n\n", s.Bold(c.Table), Count(int(c.Rows), "row", "rows"), Count(len(c.Results), "rule", "rules"))
	checkLines(s, c.Results)
}

// checkLines writes a line for each rule, and the first rows that break it below.
func checkLines(s Screen, list []check.Result) {
	t := Table{Header: []string{"rule", "else", "broken by"}, Right: []bool{false, false, true}, Indent: 2, Keep: true}
	for _, r := range list {
		broken := "none"
		if r.Broken > 0 {
			broken = Number(r.Broken)
		}
		t.Rows = append(t.Rows, []string{r.Text, string(r.Policy), broken})
	}
	t.Write(s)
	for _, r := range list {
		if r.Broken == 0 {
			continue
		}
		s.Printf("\n  %s\n", r.Text)
		for _, e := range r.Examples {
			s.Printf("    %s: %s\n", e.Place, e.Values)
		}
	}
}

type checkJSON struct {
	Rule     string       `json:"rule"`
	Policy   string       `json:"policy"`
	Broken   int64        `json:"rows_broken"`
	Examples []brokenJSON `json:"examples"`
}

type brokenJSON struct {
	Place  string `json:"place"`
	Values string `json:"values_there"`
}

func checksOf(list []check.Result) []checkJSON {
	out := []checkJSON{}
	for _, r := range list {
		c := checkJSON{r.Text, string(r.Policy), r.Broken, []brokenJSON{}}
		for _, e := range r.Examples {
			c.Examples = append(c.Examples, brokenJSON(e))
		}
		out = append(out, c)
	}
	return out
}

// CheckedJSON tells it for programs.
func CheckedJSON(s Screen, c *check.Checked) error {
	return JSON(s, struct {
		Table  string      `json:"table"`
		Rows   int64       `json:"rows"`
		Checks []checkJSON `json:"checks"`
	}{c.Table, c.Rows, checksOf(c.Results)})
}
