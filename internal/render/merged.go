package render

import (
	"fmt"
	"strings"

	"trevak/internal/amend"
	"trevak/internal/write"
)

// counted is a number and what it counts.
type counted struct {
	n    int64
	what string
}

// mergedFacts tell what became of the rows in a mode that changes those of the table.
func mergedFacts(r *write.Report) (facts []fact) {
	m := r.Merged
	if m == nil {
		return nil
	}
	if byKey(r) {
		var parts []string
		for i, c := range []counted{{m.Inserted, "inserted"}, {m.Updated, "updated"}, {m.Unchanged, "unchanged"}, {m.Deleted, "deleted"},
			{m.Known, "known and left alone"}, {m.Older, "older than the table's"}, {m.Unmet, "deleting nothing"},
			{m.Superseded, "with a key that another row of the load has"}} {
			if c.n > 0 || i < 3 {
				parts = append(parts, Number(c.n)+" "+c.what)
			}
		}
		facts = append(facts, fact{name: "rows", value: strings.Join(parts, ", ")})
	}
	if text := madeWay(r); text != "" {
		facts = append(facts, fact{name: "made way", value: text})
	}
	if m.Repeated > 0 {
		facts = append(facts, fact{name: "repeated", value: fmt.Sprintf("%s of the load stood in more than one row of the table",
			Count(int(m.Repeated), "key", "keys"))})
	}
	if len(r.Left) > 0 {
		facts = append(facts, fact{name: "left", value: fmt.Sprintf("updated rows keep their %s, which no object has", listed(r.Left))})
	}
	return facts
}

// byKey reports whether rows were held against the table's by their key.
func byKey(r *write.Report) bool { return r.Merged != nil && r.Merged.Mode != "replace" }

// madeWay tells which rows of the table are gone, and how they were taken out.
func madeWay(r *write.Report) string {
	m := r.Merged
	if m.Outcome.Rows == 0 {
		return ""
	}
	return Count(int(m.Outcome.Rows), "row", "rows") + " of the table: " + outcomeText(m.Outcome)
}

// outcomeText tells what became of the files that rows were taken out of.
func outcomeText(o write.Outcome) string {
	var parts []string
	if o.Dropped > 0 {
		parts = append(parts, Count(o.Dropped, "file", "files")+" dropped as a whole")
	}
	why := ""
	if o.Why == write.Weighing {
		why = fmt.Sprintf("; to rewrite would copy about %s of rows that stay", Size(o.Copied))
		if o.Rewritten > 0 {
			why = fmt.Sprintf(", which copies about %s of rows that stay", Size(o.Copied))
		}
		if o.Added > 0 {
			why += fmt.Sprintf(", besides %s of new ones", Size(o.Added))
		}
	}
	if o.Why == write.Asked {
		why = ", as asked for"
	}
	if o.Why == write.Version {
		why = ", as this version of the table format has it"
	}
	others := o.Files - o.Dropped
	switch {
	case o.Rewritten+o.DeleteFiles == 0 && others > 0:
		// Nothing was written yet.
		how := "with files of deletes"
		if o.As == amend.Rewrite.String() {
			how = "by a rewrite"
		}
		parts = append(parts, fmt.Sprintf("rows of %s taken out %s%s", Count(others, "file", "files"), how, why))
	case o.Rewritten > 0:
		parts = append(parts, Count(o.Rewritten, "file", "files")+" rewritten"+why)
	case o.DeleteFiles > 0:
		parts = append(parts, Count(o.DeleteFiles, "file of deletes", "files of deletes")+" added"+why)
	}
	return strings.Join(parts, ", ")
}
