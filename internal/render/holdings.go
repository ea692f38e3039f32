package render

import (
	"fmt"

	"trevak/internal/inspect"
	"trevak/internal/table"
)

// Holdings tells what a table has that is to be dropped.
func Holdings(s Screen, name string, h *table.Holdings, keep bool) {
	s.Printf("%s\n\n", s.Bold(name))
	facts := []fact{{name: "rows", value: rowsHeld(h)},
		{name: "files", value: fmt.Sprintf("%s of %s in %s", Count(len(h.Data), "file", "files"), Size(h.DataBytes),
			Count(h.Snapshots, "state", "states"))}}
	if h.Elsewhere > 0 {
		facts = append(facts, fact{name: "elsewhere", value: Count(h.Elsewhere, "adopted file", "adopted files") +
			", which stay whatever is done"})
	}
	what := "removed, and cannot be brought back"
	if keep {
		what = "kept, without a table; --purge removes them"
	}
	s.facts(append(facts, fact{name: "these are", value: what}))
}

// rowsHeld is how many rows a table has, as far as its metadata tells.
func rowsHeld(h *table.Holdings) string {
	return rowsThere(&inspect.TableInfo{Rows: h.Rows, Deletes: h.Deletes})
}

// Dropped tells of a table that is none any more.
func Dropped(s Screen, name string, d *table.Dropped, keep bool) {
	s.Printf("%s\n\n", s.Bold(name+": dropped"))
	facts := []fact{{name: "rows", value: rowsHeld(&d.Holdings)}}
	if keep {
		facts = append(facts, fact{name: "files", value: fmt.Sprintf("%s of %s stay", Count(len(d.Data), "file", "files"), Size(d.DataBytes))},
			fact{name: "last state", value: d.Kept})
	} else {
		facts = append(facts, fact{name: "removed", value: Count(d.Removed, "file", "files")})
	}
	if d.Elsewhere > 0 {
		facts = append(facts, fact{name: "elsewhere", value: Count(d.Elsewhere, "adopted file stays", "adopted files stay")})
	}
	if d.Left > 0 {
		facts = append(facts, fact{name: "left", value: Count(d.Left, "file", "files") + " in its folder that the table did not name"})
	}
	s.facts(facts)
}

// DroppedJSON tells programs of a table that is none any more, or is to be none.
func DroppedJSON(s Screen, name string, d *table.Dropped, keep, dry bool) error {
	return JSON(s, struct {
		Table     string       `json:"table"`
		DryRun    bool         `json:"dry_run"`
		Rows      int64        `json:"rows"`
		Files     int          `json:"files"`
		Bytes     int64        `json:"size_bytes"`
		Snapshots int          `json:"snapshot_count"`
		Elsewhere int          `json:"files_elsewhere"`
		KeepFiles bool         `json:"files_kept"`
		Removed   int          `json:"files_removed"`
		Left      int          `json:"files_left"`
		LastState null[string] `json:"last_state"`
	}{name, dry, d.Rows, len(d.Data), d.DataBytes, d.Snapshots, d.Elsewhere, keep, d.Removed, d.Left, orNull(d.Kept)})
}

// Namespaces lists the namespaces of a warehouse.
func Namespaces(s Screen, warehouse string, list []table.Namespace) {
	if len(list) == 0 {
		s.Printf("The warehouse %s has no namespace yet\n", warehouse)
		return
	}
	t := Table{Header: []string{"namespace", "tables", "namespaces"}, Right: []bool{false, true, true}}
	for _, n := range list {
		t.Rows = append(t.Rows, []string{n.Name, Number(int64(n.Tables)), Number(int64(n.Nested))})
	}
	t.Write(s)
}

type namespaceJSON struct {
	Namespace string `json:"namespace"`
	Tables    int    `json:"table_count"`
	Nested    int    `json:"namespace_count"`
}

// NamespacesJSON lists the namespaces of a warehouse for programs.
func NamespacesJSON(s Screen, warehouse string, list []table.Namespace) error {
	out := struct {
		Warehouse  string          `json:"warehouse"`
		Namespaces []namespaceJSON `json:"namespaces"`
	}{warehouse, []namespaceJSON{}}
	for _, n := range list {
		out.Namespaces = append(out.Namespaces, namespaceJSON{n.Name, n.Tables, n.Nested})
	}
	return JSON(s, out)
}
