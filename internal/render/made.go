package render

import (
	"fmt"
	"strings"

	"trevak/internal/load"
)

// Made tells of a table that was made without rows.
func Made(s Screen, m *load.Made) {
	title := m.Table + ": made, without rows"
	switch {
	case m.There:
		title = m.Table + ": is there already, and was left alone"
	case m.DryRun && m.Anew:
		title = m.Table + ": nothing was changed; it would begin again like this, without its rows"
	case m.DryRun:
		title = m.Table + ": nothing was made; it would be like this"
	case m.Anew:
		title = m.Table + ": begins again, without rows"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	facts := []fact{{name: "partitioned by", value: orDash(m.Spec.String())}, {name: "sorted by", value: orDash(m.Sort.String())},
		{name: "key", value: orDash(strings.Join(m.Schema.Key, ", "))}, {name: "files", value: strings.TrimPrefix(m.Format, ".")}}
	if m.Before != 0 {
		facts = append(facts, fact{name: "before", value: fmt.Sprintf("snapshot %d, which stays until it expires", m.Before)})
	}
	if m.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(m.SnapshotID)})
	}
	s.facts(facts)
	s.Printf("\n")
	t := Table{Header: []string{"column", "type", "required", "comment"}, Indent: 2, Keep: true}
	for _, f := range m.Schema.Fields {
		t.Rows = append(t.Rows, []string{f.Name, f.Type.String(), yes(f.Required), f.Doc})
	}
	t.Write(s)
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

type madeColumnJSON struct {
	ID       int          `json:"id"`
	Column   string       `json:"column"`
	Type     string       `json:"type"`
	Required bool         `json:"required"`
	Comment  null[string] `json:"comment"`
}

// MadeJSON tells programs of a table that was made without rows.
func MadeJSON(s Screen, m *load.Made) error {
	out := struct {
		Table         string            `json:"table"`
		There         bool              `json:"there_already"`
		Anew          bool              `json:"anew"`
		DryRun        bool              `json:"dry_run"`
		PartitionedBy null[string]      `json:"partitioned_by"`
		SortedBy      null[string]      `json:"sorted_by"`
		Key           []string          `json:"key"`
		Format        string            `json:"format"`
		Properties    map[string]string `json:"properties"`
		Columns       []madeColumnJSON  `json:"columns"`
		Before        null[string]      `json:"snapshot_id_before"`
		SnapshotID    null[string]      `json:"snapshot_id"`
	}{m.Table, m.There, m.Anew, m.DryRun, orNull(m.Spec.String()), orNull(m.Sort.String()), orEmpty(m.Schema.Key),
		strings.TrimPrefix(m.Format, "."), m.Properties, []madeColumnJSON{}, idText(m.Before), idText(m.SnapshotID)}
	if out.Properties == nil {
		out.Properties = map[string]string{}
	}
	for _, f := range m.Schema.Fields {
		out.Columns = append(out.Columns, madeColumnJSON{f.ID, f.Name, f.Type.String(), f.Required, orNull(f.Doc)})
	}
	return JSON(s, out)
}
