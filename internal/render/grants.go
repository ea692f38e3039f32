package render

import "trevak/internal/table"

// Grants shows what is told of the rights to a table.
func Grants(s Screen, name string, list []table.Grant) {
	t := Table{Header: []string{"right", "held", "to", "told by"}}
	for _, g := range list {
		t.Rows = append(t.Rows, []string{g.Right, g.Held.String(), g.On, g.By})
	}
	s.Printf("%s\n\n", s.Bold(name))
	t.Write(s)
}

// GrantsJSON tells programs of the rights to a table.
func GrantsJSON(s Screen, name string, list []table.Grant) error {
	type grant struct {
		Right string `json:"right"`
		Held  string `json:"held"`
		On    string `json:"to"`
		By    string `json:"told_by"`
	}
	out := struct {
		Table  string  `json:"table"`
		Rights []grant `json:"rights"`
	}{name, []grant{}}
	for _, g := range list {
		out.Rights = append(out.Rights, grant{g.Right, g.Held.String(), g.On, g.By})
	}
	return JSON(s, out)
}
