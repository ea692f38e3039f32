package render

import (
	"encoding/json"

	"trevak/internal/inspect"
	"trevak/internal/scan"
)

// previewJSON is the form of a preview for programs. Records are objects in the order of the columns.
type previewJSON struct {
	Table         null[string]      `json:"table"`
	Objects       []objectJSON      `json:"objects"`
	SizeBytes     int64             `json:"size_bytes"`
	EmptyObjects  int               `json:"empty_objects"`
	HiddenObjects int               `json:"hidden_objects"`
	PassedOver    []passedJSON      `json:"passed_over"`
	Rules         []ruleJSON        `json:"reading_rules"`
	Others        []otherJSON       `json:"read_differently"`
	Columns       []pathJSON        `json:"columns"`
	Records       []json.RawMessage `json:"records"`
	Troubles      []string          `json:"troubles"`
}

type otherJSON struct {
	Object string     `json:"object"`
	Rules  []ruleJSON `json:"reading_rules"`
}

// pathJSON is a column of which nothing is known but its path.
type pathJSON struct {
	Path string `json:"path"`
}

// PreviewJSON writes a preview for programs.
func PreviewJSON(s Screen, p *inspect.Preview) error {
	out := previewJSON{Table: orNull(p.Table), Objects: objectsJSON(p.Objects), SizeBytes: p.Bytes, EmptyObjects: p.Empty,
		HiddenObjects: p.Hidden, PassedOver: passedOver(p.Passed), Rules: rulesJSON(p.Rules), Others: []otherJSON{}, Columns: []pathJSON{},
		Records: []json.RawMessage{}, Troubles: orEmpty(p.Troubles)}
	for _, o := range p.Others {
		out.Others = append(out.Others, otherJSON{o.Location, rulesJSON(o.Rules)})
	}
	for _, name := range p.Columns {
		out.Columns = append(out.Columns, pathJSON{name})
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

// recordJSON writes one record with its columns in order.
func recordJSON(columns []string, row []scan.Cell) (json.RawMessage, error) {
	out := []byte{'{'}
	for i, c := range row {
		key, err := json.Marshal(columns[i])
		if err != nil {
			return nil, err
		}
		value := []byte("null")
		switch {
		case c.Null || c.Absent:
		case c.Plain && json.Valid([]byte(c.Text)):
			value = []byte(c.Text)
		default:
			if value, err = json.Marshal(c.Text); err != nil {
				return nil, err
			}
		}
		if i > 0 {
			out = append(out, ',')
		}
		out = append(append(append(out, key...), ':'), value...)
	}
	return append(out, '}'), nil
}
