package render

import (
	"fmt"
	"strings"
	"time"

	"trevak/internal/table"
	"trevak/internal/upkeep"
)

// Compacted tells what was written anew of a table, or would be.
func Compacted(s Screen, c *upkeep.Compacted) {
	title := c.Table
	switch {
	case c.Rewritten == 0 && len(c.Overtaken) == 0:
		title += ": no file is worth writing anew, and nothing was changed"
	case c.Rewritten == 0:
		title += ": other commits changed the files meanwhile, and nothing was changed"
	case c.DryRun:
		title += ": nothing was changed; a compaction would do this"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	facts := []fact{{name: "before", value: shapeText(c.Before)}}
	if c.Rewritten > 0 {
		after := shapeText(c.After)
		if c.DryRun {
			after = fmt.Sprintf("about %s", Count(c.After.Files, "data file", "data files"))
		}
		in := ""
		if c.Partitions > 1 {
			in = fmt.Sprintf(", in %s", Count(c.Partitions, "partition", "partitions"))
		}
		facts = append(facts, fact{name: "after", value: after}, fact{name: "anew", value: fmt.Sprintf("%s in the place of %s, with %s%s",
			Count(c.Written, "file", "files"), Number(int64(c.Rewritten)), Count(int(c.Rows), "row", "rows"), in)})
		if c.Bytes > 0 {
			facts[len(facts)-1].value += ", " + Size(c.Bytes)
		}
	}
	if c.Dropped > 0 {
		facts = append(facts, fact{name: "left out", value: Count(int(c.Dropped), "deleted row", "deleted rows")})
	}
	if c.Former > 0 {
		facts = append(facts, fact{name: "stay", value: Count(c.Former, "file", "files") + " of a former partitioning; --all writes them anew"})
	}
	if n := len(c.Overtaken); n > 0 {
		text := "%s of which another commit changed files meanwhile, and which stay: %s"
		facts = append(facts, fact{name: "overtaken", value: fmt.Sprintf(text, Count(n, "partition", "partitions"),
			List(orAll(c.Overtaken), partitionsNamed))})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s", c.Seconds)})
	if c.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: ID(c.SnapshotID)})
	}
	s.facts(facts)
}

// partitionsNamed is how many partitions are named in a line.
const partitionsNamed = 5

// orAll names the whole table where it has no partitions.
func orAll(list []string) []string {
	out := make([]string, len(list))
	for i, p := range list {
		if out[i] = p; p == "" {
			out[i] = "the whole table"
		}
	}
	return out
}

func shapeText(f upkeep.Shape) string {
	text := Count(f.Files, "data file", "data files")
	if f.DeleteFiles > 0 {
		text += fmt.Sprintf(" and %s", Count(f.DeleteFiles, "file of deletes", "files of deletes"))
	}
	return text + " of " + Size(f.Bytes)
}

type shapeJSON struct {
	Files       int   `json:"data_files"`
	DeleteFiles int   `json:"delete_files"`
	Bytes       int64 `json:"size_bytes"`
}

// CompactedJSON tells for programs what was written anew of a table.
func CompactedJSON(s Screen, c *upkeep.Compacted) error {
	return JSON(s, struct {
		Table      string       `json:"table"`
		DryRun     bool         `json:"dry_run"`
		Before     shapeJSON    `json:"before"`
		After      shapeJSON    `json:"after"`
		Partitions int          `json:"partitions"`
		Rewritten  int          `json:"files_rewritten"`
		Written    int          `json:"data_files"`
		Bytes      int64        `json:"bytes_written"`
		Rows       int64        `json:"rows_written"`
		Dropped    int64        `json:"deleted_rows_left_out"`
		Former     int          `json:"files_of_former_partitioning"`
		Overtaken  []string     `json:"partitions_overtaken"`
		SnapshotID null[string] `json:"snapshot_id"`
		Seconds    float64      `json:"seconds"`
	}{c.Table, c.DryRun, shapeJSON(c.Before), shapeJSON(c.After), c.Partitions, c.Rewritten, c.Written, c.Bytes, c.Rows, c.Dropped, c.Former,
		orEmpty(c.Overtaken), idText(c.SnapshotID), c.Seconds})
}

// Manifests tells that manifests were brought together.
func Manifests(s Screen, name string, before, after int) {
	if before == after {
		s.Printf("%s: %s, which cannot be fewer\n", name, Count(before, "manifest", "manifests"))
		return
	}
	s.Printf("%s: %s became %d\n", name, Count(before, "manifest", "manifests"), after)
}

// ManifestsJSON tells it for programs.
func ManifestsJSON(s Screen, name string, before, after int) error {
	return JSON(s, struct {
		Table  string `json:"table"`
		Before int    `json:"manifests_before"`
		After  int    `json:"manifests_after"`
	}{name, before, after})
}

// Expired tells which states of a table ended, or would.
func Expired(s Screen, name string, e *table.Expired, dry bool) {
	if len(e.Snapshots) == 0 {
		s.Printf("%s: none of %s is to end, and nothing was changed\n", name, Count(e.All, "state", "states"))
		return
	}
	title := name
	if dry {
		title += ": nothing was changed; this would end"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	removed := "removed"
	if dry {
		removed = "only theirs"
	}
	states := fmt.Sprintf("%d of %d, of %s", len(e.Snapshots), e.All, instant(&e.Snapshots[0].Committed))
	if n := len(e.Snapshots); n > 1 {
		states += " to " + instant(&e.Snapshots[n-1].Committed)
	}
	s.facts([]fact{{name: "states", value: states},
		{name: removed, value: fmt.Sprintf("%s and %s, %s", Count(e.Files, "data file", "data files"),
			Count(e.Metadata, "file of metadata", "files of metadata"), Size(e.Bytes))}})
}

// ExpiredJSON tells it for programs.
func ExpiredJSON(s Screen, name string, e *table.Expired, dry bool) error {
	out := struct {
		Table    string         `json:"table"`
		DryRun   bool           `json:"dry_run"`
		States   int            `json:"states"`
		Ended    []snapshotJSON `json:"ended"`
		Files    int            `json:"data_files_removed"`
		Metadata int            `json:"metadata_files_removed"`
		Bytes    int64          `json:"size_bytes"`
	}{name, dry, e.All, []snapshotJSON{}, e.Files, e.Metadata, e.Bytes}
	for _, snap := range e.Snapshots {
		rows := &snap.Rows
		if snap.Open {
			rows = nil
		}
		out.Ended = append(out.Ended, snapshotJSON{idText(snap.ID), instantOf(snap.Committed), snap.Operation, snap.AddedRows,
			snap.AddedFiles, rows})
	}
	return JSON(s, out)
}

// leftShown bounds how many files that were left are listed.
const leftShown = 40

// Swept tells what stopped runs have left. age is how old files had to be to be taken, in the words of who asked.
func Swept(s Screen, name string, f *table.Swept, age string) {
	if f.Dropped {
		name += ", which is no table any more"
	}
	if len(f.Left) == 0 {
		s.Printf("%s: nothing was left behind\n", name)
	} else {
		done := "were left behind; --yes removes them"
		if f.Removed {
			done = "that were left behind are removed"
		}
		s.Printf("%s: %s of %s %s\n\n", name, Count(len(f.Left), "file", "files"), Size(f.Bytes), done)
		t := Table{Header: []string{"touched", "bytes", "file"}, Right: []bool{false, true, false}, Ends: []bool{false, false, true},
			Indent: 2, Keep: true}
		for i, l := range f.Left {
			if i == leftShown {
				t.Rows = append(t.Rows, []string{"", "", fmt.Sprintf("… and %d more", len(f.Left)-i)})
				break
			}
			t.Rows = append(t.Rows, []string{instant(&l.Modified), Number(l.Bytes), l.URI})
		}
		t.Write(s)
	}
	var notes []string
	if f.Young > 0 {
		notes = append(notes, fmt.Sprintf("%s younger than %s, or of a load with such ones, may be named yet or be in use",
			Count(f.Young, "file", "files"), age))
	}
	if f.Foreign > 0 {
		notes = append(notes, fmt.Sprintf("%s of other programs stay", Count(f.Foreign, "file", "files")))
	}
	if len(notes) > 0 {
		s.Printf("\n%s\n", Wrap(strings.Join(notes, "; "), s.Width))
	}
}

// SweptJSON tells it for programs.
func SweptJSON(s Screen, name string, f *table.Swept) error {
	type left struct {
		Location   string     `json:"location"`
		Bytes      int64      `json:"size_bytes"`
		ModifiedAt *time.Time `json:"modified_at"`
	}
	out := struct {
		Of      string `json:"of"`
		Dropped bool   `json:"dropped"`
		Removed bool   `json:"removed"`
		Left    []left `json:"left"`
		Bytes   int64  `json:"size_bytes"`
		Young   int    `json:"files_young"`
		Foreign int    `json:"files_foreign"`
	}{name, f.Dropped, f.Removed, []left{}, f.Bytes, f.Young, f.Foreign}
	for _, l := range f.Left {
		out.Left = append(out.Left, left{l.URI, l.Bytes, instantOf(l.Modified)})
	}
	return JSON(s, out)
}

// DueFlags are what the ages were that a look went by, as flags of the commands that do it.
type DueFlags struct{ expiry, sweep string }

// NewDueFlags writes them.
func NewDueFlags(older string, keep int, left string) DueFlags {
	return DueFlags{fmt.Sprintf("--older-than %s --keep %d", older, keep), "--older-than " + left}
}

// Due tells what upkeep of a table is due, or what came of it.
func Due(s Screen, name string, list []upkeep.Due, p DueFlags) {
	if len(list) == 0 {
		s.Printf("%s: nothing is due\n", name)
		return
	}
	s.Printf("%s\n\n", s.Bold(name))
	var facts []fact
	for _, d := range list {
		facts = append(facts, fact{name: string(d.Kind), value: whyDue(d)})
		if !d.Done {
			facts = append(facts, fact{value: commandDue(name, d, p)})
		}
	}
	s.facts(facts)
	if !list[0].Done {
		s.Printf("\nAll of it: trevak upkeep %s --yes\n", name)
	}
}

func commandDue(name string, d upkeep.Due, p DueFlags) string {
	switch d.Kind {
	case upkeep.MergeManifests:
		return "trevak compact " + name + " --manifests"
	case upkeep.ExpireStates:
		return "trevak expire " + name + " " + p.expiry
	case upkeep.SweepFiles:
		return "trevak sweep " + name + " " + p.sweep + " --yes"
	}
	return "trevak compact " + name
}

func whyDue(d upkeep.Due) string {
	are, then := "are", "they would be"
	if d.Done {
		are, then = "were", "they became"
	}
	text := ""
	switch d.Kind {
	case upkeep.MergeManifests:
		return fmt.Sprintf("%s, each of which is read to plan a scan; %s %d", Count(d.Files, "manifest", "manifests"), then, d.Then)
	case upkeep.ExpireStates:
		text = fmt.Sprintf("%s of %s and later", Count(d.States, "state", "states"), instant(&d.Oldest))
		if d.Done {
			return fmt.Sprintf("%s, with %s of %s", text, Count(d.Files, "file", "files"), Size(d.Bytes))
		}
		return fmt.Sprintf("%s, for which alone %s of %s are kept", text, Count(d.Files, "file", "files"), Size(d.Bytes))
	case upkeep.SweepFiles:
		return fmt.Sprintf("%s of %s that no state names", Count(d.Files, "file", "files"), Size(d.Bytes))
	}
	text = fmt.Sprintf("%s %s small, out of order or full of deleted rows; %s %d", Count(d.Files, "file", "files"), are, then, d.Then)
	if d.Rows > 0 {
		text += fmt.Sprintf(", without %s", Count(int(d.Rows), "deleted row", "deleted rows"))
	}
	if d.Overtaken > 0 {
		text += fmt.Sprintf("; in %s another commit came first", Count(d.Overtaken, "partition", "partitions"))
	}
	return text
}

type dueJSON struct {
	Work      string     `json:"work"`
	Done      bool       `json:"done"`
	Files     int        `json:"files"`
	Then      int        `json:"files_then"`
	Rows      int64      `json:"deleted_rows_left_out"`
	States    int        `json:"states"`
	OldestAt  *time.Time `json:"oldest_at"`
	Bytes     int64      `json:"size_bytes"`
	Overtaken int        `json:"overtaken"`
}

// DueJSON tells it for programs.
func DueJSON(s Screen, name string, list []upkeep.Due) error {
	out := struct {
		Table string    `json:"table"`
		Due   []dueJSON `json:"due"`
	}{name, []dueJSON{}}
	for _, d := range list {
		out.Due = append(out.Due, dueJSON{string(d.Kind), d.Done, d.Files, d.Then, d.Rows, d.States, instantOf(d.Oldest), d.Bytes, d.Overtaken})
	}
	return JSON(s, out)
}
