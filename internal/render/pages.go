package render

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"trevak/internal/infer"
	"trevak/internal/profile"
	"trevak/internal/schema"
	"trevak/internal/weigh"
	"trevak/internal/write"
)

// InferencePage writes a page of an inference and the distribution of its columns.
func InferencePage(w io.Writer, i *infer.Inference, columns []profile.Column, info PageInfo) error {
	p := newPage(sourceName(i), "Which schema the records lead to, and on what evidence", info)
	p.Verdict = "Every record can be read."
	if e := i.Problem(); e != nil {
		p.Verdict, p.Bad = fmt.Sprintf("%s cannot be read, so a load would stop. The first: %s",
			Count(int(i.Observed.Problems), "record", "records"), e), true
	}
	p.add(pagePart{Numbers: []pageNumber{{"records", Number(i.Records)}, {"objects", Number(int64(len(i.Source.Inputs)))},
		{"as stored", Size(i.Source.Bytes)}, {"columns", Number(int64(len(i.Schema.Fields)))}}, Notes: factNotes(doubts(i.Source.Doubts()))})
	p.add(evidencePart(i))
	p.add(worthPart(i))
	p.add(pagePart{Heading: "How values are distributed", Cards: cardsOf(columns)})
	p.add(advicePart(i))
	return p.write(w)
}

// sourceName names what was read.
func sourceName(i *infer.Inference) string {
	first := i.Source.Inputs[0].Location
	switch {
	case i.Source.Table != "":
		return i.Source.Table
	case len(i.Source.Inputs) == 1:
		return first
	}
	return strings.TrimSuffix(commonFolder(i.Source.Source), "/") + ": " + Count(len(i.Source.Inputs), "object", "objects")
}

// factNotes makes sentences of facts.
func factNotes(facts []fact) (out []string) {
	for _, f := range facts {
		out = append(out, strings.TrimSpace(f.name+" "+f.value))
	}
	return out
}

// evidencePart is the schema with its evidence.
func evidencePart(i *infer.Inference) pagePart {
	t := &pageTable{}
	for _, name := range []string{"column", "type", "filled", "nulls", "distinct", "smallest", "largest", "longest", "settled by",
		"in the source"} {
		class := ""
		if name == "nulls" || name == "distinct" || name == "longest" {
			class = "right"
		}
		t.Header = append(t.Header, pageCell{Text: name, Class: class})
	}
	folder := commonFolder(i.Source.Source)
	for _, c := range evidence(i) {
		indent := ""
		if c.depth > 0 {
			indent = fmt.Sprintf(" in%d", min(c.depth, 3))
		}
		all := c.Values + c.Nulls
		t.Rows = append(t.Rows, []pageCell{{Text: c.Name, Class: "code" + indent}, {Text: c.shortType(), Class: "text"},
			{Text: c.filled(), Class: "short", Metered: all > 0, Share: percent(c.Values, all)}, {Text: Number(c.Nulls), Class: "right"},
			{Text: c.distinct(), Class: "right"}, {Text: clean(cut(c.Smallest, 20)), Class: "short"},
			{Text: clean(cut(c.Largest, 20)), Class: "short"},
			{Text: c.longest(), Class: "right"}, {Text: c.settledBy(folder), Class: "short"}, {Text: clean(c.Origin), Class: "short"}})
	}
	return pagePart{Heading: "Columns of the source", Table: t.withoutEmpty()}
}

// worthPart lists remarks, with the values that stand against others and their places.
func worthPart(i *infer.Inference) pagePart {
	t := Table{Header: []string{"column", "what is worth a look", "value", "where"}}
	for _, c := range evidence(i) {
		if c.Note != "" {
			t.Rows = append(t.Rows, []string{c.Path, c.Note, "", ""})
		}
		for _, a := range c.Against {
			t.Rows = append(t.Rows, []string{c.Path, "stands against the majority: " + a.Class, a.Value, fmt.Sprintf("%s:%d", a.Location, a.Line)})
		}
	}
	if len(t.Rows) == 0 {
		return pagePart{}
	}
	return pagePart{Heading: "Worth a look", Table: tableOf(t.withoutEmpty())}
}

// advicePart is what the evidence suggests.
func advicePart(i *infer.Inference) pagePart {
	t := Table{Header: []string{"flag", "why", "partitions", "rows in each", "size of each"}, Right: []bool{false, false, true, true, true}}
	for _, k := range i.Advice.Keys {
		t.Rows = append(t.Rows, []string{"--key " + k.Column, k.Reason, "", "", ""})
	}
	for _, c := range i.Advice.Partitions {
		t.Rows = append(t.Rows, []string{"--partition '" + c.Field + "'", c.Reason, Number(c.Partitions), "about " + Number(c.Rows),
			Size(c.Bytes)})
	}
	if len(t.Rows) == 0 {
		return pagePart{}
	}
	return pagePart{Heading: "Could be used", Table: tableOf(t)}
}

// LoadPage writes a page of a load: its account, or why it was refused, and what is known of its columns. inferred is nil where nothing
// was inferred of the source.
func LoadPage(w io.Writer, into string, r *write.Report, failed error, inferred *infer.Inference, info PageInfo) error {
	p := newPage(into, "What a load read, and what became of it", info)
	if failed != nil {
		refusalParts(p, failed)
	} else {
		reportParts(p, r, "")
		for _, part := range r.Split {
			reportParts(p, part, part.Table)
		}
	}
	if inferred != nil {
		p.add(evidencePart(inferred))
		p.add(worthPart(inferred))
	}
	for _, part := range append([]*write.Report{r}, splitOf(r)...) {
		if part == nil || len(part.Profile) == 0 {
			continue
		}
		name := ""
		if part != r {
			name = " in " + part.Table
		}
		p.add(pagePart{Heading: "How values are distributed" + name, Cards: cardsOf(part.Profile)})
		if sizes := sizesOf(part.Profile); sizes != nil {
			sizes.Heading += name
			p.add(*sizes)
		}
	}
	return p.write(w)
}

func splitOf(r *write.Report) []*write.Report {
	if r == nil {
		return nil
	}
	return r.Split
}

// refusalParts tell why nothing was loaded.
func refusalParts(p *page, failed error) {
	p.Bad, p.Verdict = true, "Nothing was loaded: "+clean(failed.Error())
	var refusal *write.Refusal
	if errors.As(failed, &refusal) {
		p.add(pagePart{Numbers: []pageNumber{{"records read", Number(refusal.Records)}, {"cannot become rows", Number(refusal.Bad)},
			{"allowed by --tolerate", refusal.Limit.String()}}})
		p.add(reasonsPart(refusal.Groups, refusal.Quarantine))
	}
	var drift *write.DriftError
	if errors.As(failed, &drift) {
		p.add(driftPart(drift.Differences))
	}
}

// reportParts tell what became of all records; name is that of the table where there are several.
func reportParts(p *page, r *write.Report, name string) {
	heading := "Account"
	if name != "" {
		heading += " of " + name
	} else {
		p.Verdict = "The account adds up: " + records(r) + "."
		if r.DryRun {
			p.Verdict = "Nothing was written; a load would do this. " + p.Verdict
		}
	}
	numbers := []pageNumber{{"records read", Number(r.RecordsRead)}, {"rows written", Number(r.RowsWritten)},
		{"quarantined", Number(r.RecordsQuarantined)}, {"filtered", Number(r.RecordsFiltered)}, {"data files", Number(int64(r.DataFiles))},
		{"written", Size(r.BytesWritten)}, {"seconds", fmt.Sprintf("%.2f", r.Seconds)}}
	if byKey(r) {
		numbers[1].Name = "held against the table"
	}
	notes := factNotes(append(mergedFacts(r), readingFacts(r)...))
	if r.SnapshotID != 0 {
		notes = append([]string{fmt.Sprintf("Snapshot %d of %s.", r.SnapshotID, r.Table)}, notes...)
	}
	p.add(pagePart{Heading: heading, Numbers: numbers, Notes: notes, Table: tableOf(objectsTable(r))})
	if len(r.Drift) > 0 {
		p.add(driftPart(r.Drift))
	}
	if len(r.Reasons) > 0 {
		p.add(reasonsPart(r.Reasons, r.Quarantine))
	}
}

func driftPart(list []schema.Difference) pagePart {
	part := pagePart{Heading: "Differences from the table", Table: tableOf(driftTable(list))}
	if kept(list) {
		part.Notes = []string{"Misfits are kept in the column " + schema.MisfitColumn + "."}
	}
	return part
}

func reasonsPart(groups []write.ReasonGroup, quarantine string) pagePart {
	part := pagePart{Heading: "Records that cannot become rows", Table: tableOf(reasonsTable(groups))}
	if quarantine != "" {
		part.Notes = []string{"They are kept in " + quarantine + "."}
	}
	return part
}

// WeighingPage writes a page of what trials showed.
func WeighingPage(w io.Writer, weighed *weigh.Weighing, info PageInfo) error {
	p := newPage(filepath.Base(weighed.Source), "Which codec, encoding and layout pay, measured on a sample", info)
	p.Verdict = weighingVerdict(weighed)
	p.add(pagePart{Numbers: []pageNumber{{"rows tried", Number(weighed.Rows)}, {"as text", Size(weighed.RawBytes)},
		{"plain columns", Size(weighed.PlainBytes)}, {"with " + weighed.Codec, Size(weighed.Bytes)}}})
	tables := weighingTables(weighed)
	for at, heading := range []string{"Codecs", "Sizes by column", "Layouts", "What reading costs"} {
		if len(tables[at].Rows) > 0 {
			p.add(pagePart{Heading: heading, Table: tableOf(tables[at])})
		}
	}
	if !weighed.Steady {
		p.add(pagePart{Notes: []string{"The times differed from one trial to the next; take them for rough ones."}})
	}
	p.add(pagePart{Heading: "How values are distributed", Cards: cardsOf(weighed.Profile)})
	return p.write(w)
}
