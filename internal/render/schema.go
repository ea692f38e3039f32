package render

import (
	"fmt"
	"strings"

	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Schema writes the columns of a table.
func Schema(s Screen, t *table.Table, versions []table.Version) {
	current := 0
	for _, v := range versions {
		if v.Current {
			current = v.ID
		}
	}
	s.Printf("%s  version %d of %s\n\n", s.Bold(t.Name.String()), current, Count(len(versions), "version", "versions"))
	out := Table{Header: []string{"id", "column", "type", "required", "longest", "read as", "comment"},
		Right: []bool{true, false, false, false, true}, Keep: true}
	t.Schema.Walk(func(path string, f *schema.Field) {
		depth := strings.Count(path, ".") - strings.Count(f.Name, ".")
		required, longest := "", ""
		if f.Required {
			required = "yes"
		}
		if f.Longest > 0 {
			longest = Number(int64(f.Longest))
		}
		kind := f.Type.String()
		if f.Type.Nested() {
			kind = f.Type.Kind.String()
		}
		out.Rows = append(out.Rows, []string{fmt.Sprint(f.ID), strings.Repeat("  ", depth) + f.Name, kind, required, longest,
			notation(f.Notation), f.Doc})
	})
	out.Write(s)
	if len(t.Schema.Key) > 0 {
		s.Printf("\nKey: %s\n", strings.Join(t.Schema.Key, ", "))
	}
}

// notation writes how values are read, where that is not the usual way.
func notation(n schema.Notation) string {
	var parts []string
	if n.Format != "" {
		parts = append(parts, n.Format)
	}
	if n.DecimalMark != "" {
		parts = append(parts, "decimal mark "+n.DecimalMark)
	}
	if len(n.Nulls) > 0 {
		quoted := make([]string, len(n.Nulls))
		for i, null := range n.Nulls {
			quoted[i] = fmt.Sprintf("%q", null)
		}
		parts = append(parts, "null is "+strings.Join(quoted, ", "))
	}
	return strings.Join(parts, "; ")
}

// History writes the versions of a table's schema, the newest first.
func History(s Screen, name string, versions []table.Version) {
	s.Printf("%s  %s\n", s.Bold(name), Count(len(versions), "version of its schema", "versions of its schema"))
	for i := len(versions) - 1; i >= 0; i-- {
		v := versions[i]
		mark := ""
		if v.Current {
			mark = ", current"
		}
		s.Printf("\n  %s\n", Wrap(fmt.Sprintf("%d%s  %s  %s", v.ID, mark, instant(v.At), v.Cause), s.Width-2))
		for _, c := range changes(versions, i) {
			s.Printf("      %s\n", strings.ReplaceAll(Wrap(c, s.Width-6), "\n", "\n      "))
		}
	}
}

// changes are what a version changed: as the table's log has it, or what differs from the one before.
func changes(versions []table.Version, i int) []string {
	switch v := versions[i]; {
	case len(v.Changes) > 0:
		return v.Changes
	case i > 0:
		return schema.Compare(versions[i-1].Schema, v.Schema)
	default:
		return []string{Count(len(v.Schema.Fields), "column", "columns")}
	}
}

// Drift writes the differences between a source and a table.
func Drift(s Screen, list []schema.Difference) {
	driftTable(list).Write(s)
	for _, d := range list {
		if d.Kind == schema.LikelyRename {
			s.Printf("  If %s is %s under a new name: trevak alter TABLE --rename %s=%s before loading, or load with --rename.\n", d.From,
				d.Column, d.Column, d.From)
		}
	}
}

// driftTable is the differences, without columns that have nothing to tell.
func driftTable(list []schema.Difference) Table {
	words := map[string]string{schema.CaseOnly: "letter case", schema.LikelyRename: "likely rename",
		schema.UnknownColumn: "not in the table"}
	t := Table{Header: []string{"difference", "column", "in the source", "type", "records", "first", "value"},
		Right: []bool{false, false, false, false, true}, Ends: []bool{false, false, false, false, false, true}, Indent: 2, Keep: true}
	for _, d := range list {
		kind := d.Kind
		if word, ok := words[kind]; ok {
			kind = word
		}
		types, records, first := d.Is, "", ""
		switch {
		case d.Was != "" && d.Is != "":
			types = d.Was + " → " + d.Is
		case d.Was != "":
			types = d.Was
		}
		if d.Records > 0 {
			records = Number(d.Records)
		}
		if d.Location != "" {
			first = fmt.Sprintf("%s:%d", d.Location, d.Line)
		}
		t.Rows = append(t.Rows, []string{kind, d.Column, d.From, cut(types, 48), records, first, cut(d.Value, 40)})
	}
	return t.withoutEmpty()
}

// alignment writes where the columns of a table come from.
func alignment(s Screen, list []write.Aligned) {
	t := Table{Header: []string{"column", "type", "action", "field", "read as", "object"}, Ends: []bool{5: true}, Indent: 2, Keep: true}
	for _, a := range list {
		t.Rows = append(t.Rows, []string{a.Column, a.Type, a.Action, orDash(a.From), orDash(a.FromType), orDash(a.Location)})
	}
	t.Write(s)
}
