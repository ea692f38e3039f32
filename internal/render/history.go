package render

import (
	"fmt"
	"strings"
	"time"

	"trevak/internal/ledger"
	"trevak/internal/table"
)

// TableHistory writes a line for each of the newest commits of a table, as many as are shown.
func TableHistory(s Screen, name string, list []table.Commit, shown int) {
	if len(list) == 0 {
		s.Printf("%s has no commit yet\n", name)
		return
	}
	t := Table{Header: []string{"when", "what", "rows", "", "rows then", "files", "", "size", "took", "of", "snapshot", "state"},
		Right: []bool{false, false, true, true, true, true, true, true, true, false, true}, Keep: true}
	for _, c := range list[:min(shown, len(list))] {
		t.Rows = append(t.Rows, commitCells(c))
	}
	t.Write(s)
	for _, c := range list[:min(shown, len(list))] {
		if len(c.Changes) == 0 {
			continue
		}
		s.Printf("\n%s, %s:\n", instant(&c.Committed), c.Operation)
		for _, change := range c.Changes {
			s.Printf("  %s\n", change)
		}
	}
	if more := len(list) - shown; more > 0 {
		s.Printf("\n%s before these; -n %d shows them too\n", Count(more, "commit", "commits"), len(list))
	}
}

// commitCells are the cells of a line.
func commitCells(c table.Commit) []string {
	what, of := c.Operation, c.Source
	if !c.Ours {
		what += " by another program"
	}
	switch {
	case c.Of != 0:
		return []string{instant(&c.Committed), what, "", "", "", "", "", "", "", "to snapshot " + ID(c.Of), "", ""}
	case c.Standing == table.NoState:
		changes := Count(len(c.Changes), "change", "changes") + " of columns"
		return []string{instant(&c.Committed), what, "", "", "", "", "", "", "", changes, "", ""}
	case c.Objects > 1:
		of += fmt.Sprintf(" (%s)", Count(c.Objects, "object", "objects"))
	}
	then := Number(c.Rows)
	if c.Open {
		then = "open"
	}
	took := ""
	if c.Duration > 0 {
		took = elapsed(c.Duration)
	}
	state := string(c.Standing)
	if len(c.Names) > 0 {
		state += ": " + strings.Join(c.Names, ", ")
	}
	return []string{instant(&c.Committed), what, signed('+', c.AddedRows), signed('-', c.Gone), then, signed('+', c.AddedFiles+c.DeleteFiles),
		signed('-', c.RemovedFiles), Size(c.Bytes), took, of, ID(c.ID), state}
}

func signed(sign rune, n int64) string {
	if n == 0 {
		return ""
	}
	return string(sign) + Number(n)
}

// elapsed writes how long something took.
func elapsed(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.2f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

type commitJSON struct {
	ID          null[string]  `json:"snapshot_id"`
	CommittedAt *time.Time    `json:"committed_at"`
	Operation   string        `json:"operation"`
	Ours        bool          `json:"by_trevak"`
	Source      null[string]  `json:"source"`
	Objects     int           `json:"objects_taken_in"`
	Added       int64         `json:"rows_added"`
	Removed     int64         `json:"rows_removed"`
	Rows        *int64        `json:"rows"`
	AddedFiles  int64         `json:"data_files_added"`
	GoneFiles   int64         `json:"data_files_removed"`
	Deletes     int64         `json:"delete_files_added"`
	Bytes       int64         `json:"size_bytes"`
	Seconds     null[float64] `json:"seconds"`
	Changes     []string      `json:"changes"`
	State       null[string]  `json:"state"`
	Names       []string      `json:"names"`
	Of          null[string]  `json:"to_snapshot_id"`
}

func commitOf(c table.Commit) commitJSON {
	out := commitJSON{ID: idText(c.ID), CommittedAt: instantOf(c.Committed), Operation: c.Operation, Ours: c.Ours, Source: orNull(c.Source),
		Objects: c.Objects, Added: c.AddedRows, Removed: c.Gone, AddedFiles: c.AddedFiles, GoneFiles: c.RemovedFiles, Deletes: c.DeleteFiles,
		Bytes: c.Bytes, Seconds: orNull(c.Duration.Seconds()), Changes: orEmpty(c.Changes), State: orNull(string(c.Standing)),
		Names: orEmpty(c.Names), Of: idText(c.Of)}
	if c.ID != 0 && !c.Open {
		out.Rows = &c.Rows
	}
	return out
}

func commitsOf(list []table.Commit) []commitJSON {
	out := []commitJSON{}
	for _, c := range list {
		out = append(out, commitOf(c))
	}
	return out
}

// HistoryJSON writes the commits of a table for programs.
func HistoryJSON(s Screen, name string, list []table.Commit) error {
	return JSON(s, struct {
		Table   string       `json:"table"`
		Commits []commitJSON `json:"commits"`
	}{name, commitsOf(list)})
}

// Refs writes the tags and branches of a table.
func Refs(s Screen, name string, list []table.Ref) {
	t := Table{Header: []string{"name", "kind", "snapshot", "committed"}, Right: []bool{false, false, true}}
	for _, r := range list {
		t.Rows = append(t.Rows, []string{r.Name, kindOf(r), ID(r.ID), instant(&r.Committed)})
	}
	if len(list) == 0 {
		s.Printf("%s has no state yet, and so no name for one\n", name)
		return
	}
	t.Write(s)
}

func kindOf(r table.Ref) string {
	if r.Tag {
		return "tag"
	}
	return "branch"
}

// RefsJSON writes the tags and branches of a table for programs.
func RefsJSON(s Screen, name string, list []table.Ref) error {
	type ref struct {
		Name        string       `json:"name"`
		Kind        string       `json:"kind"`
		ID          null[string] `json:"snapshot_id"`
		CommittedAt *time.Time   `json:"committed_at"`
	}
	out := struct {
		Table string `json:"table"`
		Names []ref  `json:"names"`
	}{name, []ref{}}
	for _, r := range list {
		out.Names = append(out.Names, ref{r.Name, kindOf(r), idText(r.ID), instantOf(r.Committed)})
	}
	return JSON(s, out)
}

// Named is a name that a state was given, or that was taken away.
type Named struct {
	Name     string
	Snapshot table.Snapshot
	Removed  bool
}

// NamedText tells of a name of a state.
func NamedText(s Screen, name string, n Named) {
	if n.Removed {
		s.Printf("%s: the name %s is taken away from snapshot %d\n", name, n.Name, n.Snapshot.ID)
		return
	}
	rows := Count(int(n.Snapshot.Rows), "row", "rows")
	if n.Snapshot.Open {
		rows = "rows of which some are deleted"
	}
	s.Printf("%s: %s is snapshot %d of %s, %s\n", name, n.Name, n.Snapshot.ID, instant(&n.Snapshot.Committed), rows)
}

// NamedJSON tells of a name of a state for programs.
func NamedJSON(s Screen, name string, n Named) error {
	return JSON(s, struct {
		Table   string       `json:"table"`
		Name    string       `json:"name"`
		ID      null[string] `json:"snapshot_id"`
		Removed bool         `json:"removed"`
	}{name, n.Name, idText(n.Snapshot.ID), n.Removed})
}

// forgottenShown is how many objects that a rollback forgets are named.
const forgottenShown = 5

// ReturnText tells which state is a table's now, and what that undid.
func ReturnText(s Screen, name string, r *table.Return, forgotten []ledger.Entry, dry bool) {
	title := name
	switch {
	case r.Same:
		title += ": that is its state already, and nothing was changed"
	case dry:
		title += ": nothing was changed; this would become of it"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	facts := []fact{{name: "state", value: stateText(r.To)}}
	if r.From.ID != 0 && !r.Same {
		facts = append(facts, fact{name: "instead of", value: stateText(r.From)})
	}
	for i, c := range r.Changes {
		facts = append(facts, fact{name: []string{"columns", ""}[min(i, 1)], value: c})
	}
	for i, e := range forgotten {
		if i == forgottenShown {
			facts = append(facts, fact{value: fmt.Sprintf("and %d more", len(forgotten)-i)})
			break
		}
		facts = append(facts, fact{name: []string{"out of the ledger", ""}[min(i, 1)], value: e.URI})
	}
	s.facts(facts)
	commitLines(s, "undoes", "undone", r.Undone, dry)
	commitLines(s, "brings", "brought", r.Redone, dry)
	if !dry && len(r.Undone) > 0 {
		back := fmt.Sprintf("Until it expires, what was undone comes back with: trevak rollback %s --to %d", name, r.From.ID)
		s.Printf("\n%s\n", Wrap(back, s.Width))
	}
}

func stateText(s table.Snapshot) string {
	rows := Count(int(s.Rows), "row", "rows")
	if s.Open {
		rows = "rows of which some are deleted"
	}
	return fmt.Sprintf("snapshot %d of %s, %s", s.ID, instant(&s.Committed), rows)
}

func commitLines(s Screen, would, was string, list []table.Commit, dry bool) {
	if len(list) == 0 {
		return
	}
	if dry {
		was = would
	}
	s.Printf("\n%s:\n", was)
	t := Table{Header: []string{"when", "what", "rows", "", "of", "snapshot"}, Right: []bool{false, false, true, true, false, true},
		Indent: 2, Keep: true}
	for _, c := range list {
		t.Rows = append(t.Rows, []string{instant(&c.Committed), c.Operation, signed('+', c.AddedRows), signed('-', c.Gone), c.Source, ID(c.ID)})
	}
	t.Write(s)
}

// ReturnJSON tells for programs which state is a table's now.
func ReturnJSON(s Screen, name string, r *table.Return, forgotten []ledger.Entry, dry bool) error {
	out := struct {
		Table     string       `json:"table"`
		DryRun    bool         `json:"dry_run"`
		ID        null[string] `json:"snapshot_id"`
		Before    null[string] `json:"snapshot_id_before"`
		Changes   []string     `json:"changes"`
		Undone    []commitJSON `json:"undone"`
		Redone    []commitJSON `json:"redone"`
		Forgotten []string     `json:"objects_forgotten"`
	}{name, dry, idText(r.To.ID), idText(r.From.ID), orEmpty(r.Changes), commitsOf(r.Undone), commitsOf(r.Redone), []string{}}
	for _, e := range forgotten {
		out.Forgotten = append(out.Forgotten, e.URI)
	}
	return JSON(s, out)
}
