package render

import (
	"encoding/json"
	"fmt"

	"trevak/internal/inspect"
	"trevak/internal/locate"
	"trevak/internal/scan"
	"trevak/internal/sniff"
)

// Preview writes reading rules and first records.
func Preview(s Screen, p *inspect.Preview) {
	s.Printf("%s  %s\n", s.Bold(clean(p.Name)), extent(p))
	var facts []fact
	for _, r := range p.Rules {
		facts = append(facts, ruleFact(r))
	}
	s.facts(facts)
	for _, other := range p.Others {
		for _, r := range other.Rules {
			s.Printf("  %s: %s %s: %s\n", clean(other.Location), r.Rule, r.Value, r.Why)
		}
	}
	if len(p.Columns) > 0 {
		s.Printf("\n")
		t := Table{Header: p.Columns}
		for _, row := range p.Rows {
			cells := make([]string, len(row))
			for i, c := range row {
				cells[i] = cellText(c)
			}
			t.Rows = append(t.Rows, cells)
		}
		t.Write(s)
	}
	for _, trouble := range p.Troubles {
		s.Printf("\n  cannot be read: %s\n", trouble)
	}
}

// longestCell keeps a cell readable even where a line has no end.
const longestCell = 400

// cellText tells null and absent values from empty texts.
func cellText(c scan.Cell) string {
	switch {
	case c.Absent:
		return ""
	case c.Null:
		return "·"
	case c.Text == "":
		return `""`
	}
	return cut(c.Text, longestCell)
}

func extent(p *inspect.Preview) string {
	text := fmt.Sprintf("%s, %s", Count(p.Objects, "object", "objects"), Size(p.Bytes))
	if p.Empty > 0 {
		text += fmt.Sprintf("; %s passed over", Count(p.Empty, "empty file", "empty files"))
	}
	if p.Hidden > 0 {
		text += fmt.Sprintf("; %s passed over", Count(p.Hidden, "hidden file", "hidden files"))
	}
	for i, p := range p.Passed {
		if i == 3 {
			text += "; …"
			break
		}
		text += fmt.Sprintf("; %s %s passed over", p.What, clean(p.Location))
	}
	return text
}

func ruleFact(r sniff.Reason) fact {
	why := r.Why
	if r.Unsure {
		why += " (unsure)"
	}
	if r.Unsure && r.Instead != "" {
		why += "; " + r.Instead
	}
	return fact{r.Rule, r.Value, why}
}

// previewJSON is the form of a preview for programs. Rows are objects in the order of the columns.
type previewJSON struct {
	Source      string            `json:"source"`
	Objects     int               `json:"objects"`
	SizeBytes   int64             `json:"size_bytes"`
	EmptyFiles  int               `json:"empty_files"`
	HiddenFiles int               `json:"hidden_files"`
	Passed      []locate.Passed   `json:"passed_over"`
	Rules       []ruleJSON        `json:"reading_rules"`
	Others      []otherJSON       `json:"read_differently"`
	Columns     []string          `json:"columns"`
	Records     []json.RawMessage `json:"records"`
	Troubles    []string          `json:"troubles"`
}

type ruleJSON struct {
	Rule   string `json:"rule"`
	Value  string `json:"value"`
	Why    string `json:"why"`
	Unsure bool   `json:"unsure"`
	// Asked says that it must be stated, or --unsure go, and Instead what gives the other reading.
	Asked   bool   `json:"asked"`
	Instead string `json:"instead,omitempty"`
}

type otherJSON struct {
	Location string     `json:"location"`
	Rules    []ruleJSON `json:"reading_rules"`
}

// PreviewJSON writes a preview for programs.
func PreviewJSON(s Screen, p *inspect.Preview) error {
	out := previewJSON{Source: p.Name, Objects: p.Objects, SizeBytes: p.Bytes, EmptyFiles: p.Empty, HiddenFiles: p.Hidden,
		Passed: orEmpty(p.Passed), Rules: rulesJSON(p.Rules),
		Others: []otherJSON{}, Columns: orEmpty(p.Columns), Records: []json.RawMessage{}, Troubles: orEmpty(p.Troubles)}
	for _, o := range p.Others {
		out.Others = append(out.Others, otherJSON{o.Location, rulesJSON(o.Rules)})
	}
	for _, row := range p.Rows {
		text, err := recordJSON(p.Columns, row)
		if err != nil {
			return err
		}
		out.Records = append(out.Records, text)
	}
	return JSON(s, out)
}

func rulesJSON(rules []sniff.Reason) []ruleJSON {
	out := []ruleJSON{}
	for _, r := range rules {
		out = append(out, ruleJSON{r.Rule, r.Value, r.Why, r.Unsure, r.Asked, r.Instead})
	}
	return out
}

// recordJSON writes one record with its columns in order; absent members are left out.
func recordJSON(columns []string, row []scan.Cell) (json.RawMessage, error) {
	out := []byte{'{'}
	for i, c := range row {
		if c.Absent {
			continue
		}
		key, err := json.Marshal(columns[i])
		if err != nil {
			return nil, err
		}
		value := []byte("null")
		if !c.Null {
			if value, err = json.Marshal(c.Text); err != nil {
				return nil, err
			}
		}
		if len(out) > 1 {
			out = append(out, ',')
		}
		out = append(append(append(out, key...), ':'), value...)
	}
	return append(out, '}'), nil
}

// orEmpty makes a missing list an empty one, which programs tell apart.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
