package render

import (
	"fmt"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/write"
)

// objectsShown bounds how many objects of a report have a line of their own.
const objectsShown = 20

// Report writes the account of a convert or a load.
func Report(s Screen, r *write.Report) {
	title := r.Destination
	if r.Table != "" {
		title = r.Table
		if r.Branch != "" {
			title += ", branch " + r.Branch
		}
		if r.Created {
			title += " (new table)"
		}
		if r.NotMade {
			title += ": not made, as no record came"
		}
	}
	if r.Completed {
		title += ": the rows were there already, of a load that was not finished"
	}
	if r.DryRun {
		title += ": nothing was written; a load would do this"
	}
	if r.NothingNew {
		title += ": nothing new, every object was loaded before"
	}
	if title == "-" {
		title = "standard output"
	}
	s.Printf("%s\n\n", s.Bold(Wrap(title, s.Width)))
	if len(r.Alignment) > 0 {
		alignment(s, r.Alignment)
		s.Printf("\n")
	}
	if !r.NothingNew {
		objectsTable(r).Write(s)
		s.Printf("\n")
	}
	s.facts(reportFacts(r))
	if len(r.Drift) > 0 {
		s.Printf("\n")
		Drift(s, r.Drift)
		if kept(r.Drift) {
			s.Printf("\n  Misfits are kept in the column %s.\n", schema.MisfitColumn)
		}
	}
	if len(r.Checks) > 0 {
		s.Printf("\n")
		checkLines(s, r.Checks)
	}
	for _, part := range r.Split {
		s.Printf("\n")
		Report(s, part)
	}
	if len(r.Reasons) > 0 && r.Quarantine == "" {
		s.Printf("\n")
		reasons(s, r.Reasons)
	} else if len(r.Reasons) > 0 {
		s.Printf("\n")
		reasons(s, r.Reasons)
		s.Printf("\n  They are kept in %s.\n", r.Quarantine)
	}
}

// objectsTable is what became of the records of each object.
func objectsTable(r *write.Report) Table {
	t := Table{Header: []string{"object", "bytes", "read", "written", "quarantined", "skipped"},
		Right: []bool{false, true, true, true, true, true}, Ends: []bool{true}, Indent: 2, Keep: true}
	if r.Formed {
		// Records and rows are not the same then: read = kept + filtered + quarantined + skipped, and those kept made rows.
		t.Header = []string{"object", "bytes", "read", "kept", "filtered", "quarantined", "skipped", "rows"}
		t.Right = []bool{false, true, true, true, true, true, true, true}
	}
	if byKey(r) && !r.Formed {
		t.Header[3] = "merged"
	}
	line := func(name string, bytes int64, c write.Counts) {
		cells := []string{name, Number(bytes), Number(c.RecordsRead), Number(c.RowsWritten), Number(c.RecordsQuarantined),
			Number(c.RecordsSkipped)}
		if r.Formed {
			cells = []string{name, Number(bytes), Number(c.RecordsRead), Number(c.RecordsKept), Number(c.RecordsFiltered),
				Number(c.RecordsQuarantined), Number(c.RecordsSkipped), Number(c.RowsWritten)}
		}
		t.Rows = append(t.Rows, cells)
	}
	for i, o := range r.Objects {
		if i == objectsShown {
			var rest write.Counts
			var bytes int64
			for _, o := range r.Objects[i:] {
				rest.Add(o.Counts)
				bytes += o.Bytes
			}
			line(fmt.Sprintf("… %s", Count(len(r.Objects)-i, "more object", "more objects")), bytes, rest)
			break
		}
		line(o.Location, o.Bytes, o.Counts)
	}
	if len(r.Objects) > 1 {
		line("in all", r.BytesRead, r.Counts)
	}
	return t
}

// kept reports whether values are kept aside.
func kept(list []schema.Difference) bool {
	return slices.ContainsFunc(list, func(d schema.Difference) bool { return d.Kind == schema.Unfit || d.Kind == schema.UnknownColumn })
}

// records writes what became of all records.
func records(r *write.Report) string {
	rest := fmt.Sprintf("%s quarantined + %s skipped", Number(r.RecordsQuarantined), Number(r.RecordsSkipped))
	if !r.Formed {
		what := "written"
		if byKey(r) {
			what = "held against the table"
		}
		return fmt.Sprintf("%s read = %s %s + %s", Number(r.RecordsRead), Number(r.RowsWritten), what, rest)
	}
	return fmt.Sprintf("%s read = %s kept + %s filtered + %s; those kept made %s", Number(r.RecordsRead), Number(r.RecordsKept),
		Number(r.RecordsFiltered), rest,
		Count(int(r.RowsWritten), "row", "rows"))
}

// readingFacts tells what of the reading is unsure or out of the usual.
func readingFacts(r *write.Report) []fact {
	facts := doubts(r.Unsure)
	const most = 3
	for i, a := range r.LinesAbove {
		if i == most {
			facts = append(facts, fact{value: fmt.Sprintf("and in %s more", Count(len(r.LinesAbove)-most, "object", "objects"))})
			break
		}
		name := ""
		if i == 0 {
			name = "above"
		}
		facts = append(facts, fact{name: name, value: fmt.Sprintf("%s above the table of %s, no part of it: %s",
			Count(a.Lines, "line", "lines"), clean(a.Location), fault.Quote(cut(clean(a.First), 60)))})
	}
	if r.RecordsFilled > 0 {
		facts = append(facts, fact{name: "filled", value: fmt.Sprintf("%s lacked fields at the end, which are null",
			Count(int(r.RecordsFilled), "record", "records"))})
	}
	return facts
}

// doubts tells of reading rules that could be others.
func doubts(list []source.Doubt) (facts []fact) {
	for i, d := range list {
		name := ""
		if i == 0 {
			name = "unsure"
		}
		value := fmt.Sprintf("%s %s: %s", d.Rule, d.Value, clean(d.Why))
		if d.Instead != "" {
			value += "; " + d.Instead
		}
		if d.Objects > 1 {
			value += fmt.Sprintf(" (%s)", Count(d.Objects, "object", "objects"))
		}
		facts = append(facts, fact{name: name, value: value})
	}
	return facts
}

func reportFacts(r *write.Report) []fact {
	facts := knownFacts(r)
	if r.NothingNew {
		return facts
	}
	facts = append(facts, []fact{
		{name: "records", value: records(r)},
	}...)
	facts = append(facts, mergedFacts(r)...)
	facts = append(facts, []fact{
		{name: "written", value: fmt.Sprintf("%s in %s, %s%s", Size(r.BytesWritten), Count(r.DataFiles, "file", "files"), r.Codec,
			ratio(r))},
	}...)
	if r.Partitions > 0 {
		facts = append(facts, fact{name: "partitions", value: Number(int64(r.Partitions))})
	}
	facts = append(facts, fact{name: "time", value: fmt.Sprintf("%.2f s, %s/s", r.Seconds,
		Size(int64(float64(max(r.BytesUnpacked, r.BytesRead))/max(r.Seconds, 1e-6))))})
	if r.SnapshotID != 0 {
		facts = append(facts, fact{name: "snapshot", value: fmt.Sprint(r.SnapshotID)})
	}
	if r.Verified > 0 {
		facts = append(facts, fact{name: "verified", value: Count(int(r.Verified), "row", "rows") + " read back, as written"})
	}
	if r.EmptyFiles > 0 || r.HiddenFiles > 0 {
		facts = append(facts, fact{name: "passed over", value: fmt.Sprintf("%s, %s", Count(r.EmptyFiles, "empty object", "empty objects"),
			Count(r.HiddenFiles, "hidden object", "hidden objects"))})
	}
	for i, p := range r.PassedOver {
		name := ""
		if i == 0 && r.EmptyFiles == 0 && r.HiddenFiles == 0 {
			name = "passed over"
		}
		facts = append(facts, fact{name: name, value: p.What + " " + p.Location})
		if i == objectsShown-1 && len(r.PassedOver) > objectsShown {
			facts = append(facts, fact{value: fmt.Sprintf("and %d more", len(r.PassedOver)-objectsShown)})
			break
		}
	}
	facts = append(facts, readingFacts(r)...)
	if len(r.NoType) > 0 {
		facts = append(facts, fact{name: "no type yet",
			value: fmt.Sprintf("%s: no value was there to tell; %s", listed(r.NoType), settlesLater(r))})
	}
	if r.Rewritten {
		facts = append(facts, fact{name: "rewritten",
			value: "what the first records did not show made it look at all of them and write anew"})
	}
	for i, n := range r.NullTokens {
		name := ""
		if i == 0 {
			name = "null tokens"
		}
		facts = append(facts, fact{name: name, value: fmt.Sprintf("%s taken for null in %s",
			Count(int(n.Values), "value was", "values were"), n.Column)})
	}
	for i, n := range r.Renamed {
		name := ""
		if i == 0 {
			name = "renamed"
		}
		facts = append(facts, fact{name: name, value: fmt.Sprintf("%q is %s", n.From, n.To)})
	}
	return facts
}

// knownFacts tell what the ledger knew of the objects of a source.
func knownFacts(r *write.Report) (facts []fact) {
	if k := r.Known; k.Known+k.Changed > 0 {
		facts = append(facts, fact{name: "objects", value: fmt.Sprintf("%s known, %s new, %s changed", Number(int64(k.Known)),
			Number(int64(k.New)), Number(int64(k.Changed)))})
		if r.NothingNew {
			facts[0].value += "; --again loads them all the same"
		}
	}
	for i, a := range r.Alike {
		if i == objectsShown {
			return append(facts, fact{value: fmt.Sprintf("and %d more", len(r.Alike)-objectsShown)})
		}
		facts = append(facts, fact{name: map[bool]string{true: "alike"}[i == 0],
			value: fmt.Sprintf("%s has the content of %s, which was loaded before", clean(a.Location), clean(a.Other))})
	}
	return facts
}

// listed names the first few of many columns.
func listed(names []string) string {
	const most = 10
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

// settlesLater says what becomes of columns without a type.
func settlesLater(r *write.Report) string {
	switch {
	case r.NotMade:
		return "the table is made when the first records come"
	case r.Table != "":
		return "string until the first values settle it"
	}
	return "written as string"
}

// Refusal writes what else is to be told of a run with too many bad records.
func Refusal(s Screen, r *write.Refusal) {
	how := "of"
	if !r.All {
		how = "of the first"
	}
	s.Printf("\n  %s\n\n", Wrap(fmt.Sprintf("%s %s %s cannot become rows, more than --tolerate %s allows", Number(r.Bad), how,
		Count(int(r.Records), "record", "records"), r.Limit), s.Width-2))
	reasons(s, r.Groups)
	if r.Unkept != nil {
		s.Printf("\n  They could not be kept: %s. Nothing was written.\n", r.Unkept)
		return
	}
	text := "Nothing was written."
	if r.Quarantine != "" {
		text = fmt.Sprintf("They are kept in %s; nothing else was written.", r.Quarantine)
	}
	if r.All && r.Bad < r.Records {
		text += fmt.Sprintf(" To go on without them, add: --tolerate %d", r.Bad)
	}
	s.Printf("\n  %s\n", Wrap(text, s.Width-2))
}

// reasons writes a line for each reason.
func reasons(s Screen, groups []write.ReasonGroup) { reasonsTable(groups).Write(s) }

func reasonsTable(groups []write.ReasonGroup) Table {
	t := Table{Header: []string{"reason", "records", "first", "message"}, Right: []bool{false, true}, Ends: []bool{false, false, true},
		Indent: 2, Keep: true}
	for _, g := range groups {
		t.Rows = append(t.Rows, []string{string(g.Reason), Number(g.Records), fmt.Sprintf("%s:%d", g.Location, g.Line),
			cut(g.Message, 120)})
	}
	return t
}

// ratio compares what was written with the raw records, unpacked.
func ratio(r *write.Report) string {
	if r.BytesUnpacked == 0 {
		return ""
	}
	return fmt.Sprintf(", %.3f of the raw %s", float64(r.BytesWritten)/float64(r.BytesUnpacked), Size(r.BytesUnpacked))
}
