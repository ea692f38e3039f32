package render

import (
	"fmt"
	"path/filepath"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/mask"
	"trevak/internal/parse"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/wording"
)

// Inference writes a line for each column, and below nested ones a line for each part; shown picks some of the columns.
func Inference(s Screen, i *infer.Inference, shown []string) error {
	lines, err := picked(evidence(i), shown)
	if err != nil {
		return err
	}
	how := "every one looked at"
	if !i.Whole {
		how = "a sample spread over all"
	}
	s.Printf("%s\n\n", s.Bold(fmt.Sprintf("%s in %s, %s", Count(int(i.Records), "record", "records"),
		Count(len(i.Source.Inputs), "object", "objects"), how)))
	folder := commonFolder(i.Source.Source)
	renamed := false
	for _, l := range lines {
		renamed = renamed || l.Origin != ""
	}
	t := Table{Header: []string{"column", "type", "filled", "nulls", "distinct", "smallest", "largest", "longest", "settled by"},
		Right: []bool{false, false, true, true, true, false, false, true, false}, Keep: true}
	if renamed {
		t.Header = append(t.Header, "in the source")
	}
	for _, l := range lines {
		cells := []string{strings.Repeat("  ", l.depth) + l.Name, l.shortType(), l.filled(), Number(l.Nulls), l.distinct(),
			cut(l.Smallest, longestExtreme),
			cut(l.Largest, longestExtreme), l.longest(), l.settledBy(folder)}
		if renamed {
			cells = append(cells, l.Origin)
		}
		t.Rows = append(t.Rows, cells)
	}
	t.Write(s)
	if unsure := doubts(i.Source.Doubts()); len(unsure) > 0 {
		s.Printf("\n")
		s.facts(unsure)
	}
	if folder != "" {
		s.Printf("\nObjects are in %s.\n", folder)
	}
	lists(s, lines, i.Records)
	notes(s, lines, folder)
	advice(s, i.Advice, i.Source.IsGeoJSON())
	if e := i.Problem(); e != nil {
		s.Printf("\n%s cannot be read, so a load would stop. The first:\n  %s\n", Count(int(i.Observed.Problems), "record", "records"), e)
	}
	return nil
}

// picked keeps the columns that are picked, with their parts.
func picked(lines []columnEvidence, shown []string) ([]columnEvidence, error) {
	if len(shown) == 0 {
		return lines, nil
	}
	var names []string
	var starts []int
	for i, l := range lines {
		if l.depth == 0 {
			names, starts = append(names, l.Name), append(starts, i)
		}
	}
	at, wrong := wording.Pick(shown, names)
	if wrong != "" {
		return nil, fault.New(fault.Usage, "--columns-shown: there is no column %q", wrong).Try("%s", schema.Choices(wrong, names))
	}
	starts = append(starts, len(lines))
	var out []columnEvidence
	for _, i := range at {
		out = append(out, lines[starts[i]:starts[i+1]]...)
	}
	return out, nil
}

// lists writes how long the lists are, and how many rows their elements would make.
func lists(s Screen, lines []columnEvidence, records int64) {
	var facts []fact
	in := "" // the innermost map so far
	for _, l := range lines {
		if strings.HasPrefix(l.Type, schema.Map.String()) {
			in = l.Path
		}
		if l.Lengths == nil {
			continue
		}
		n, about := l.Lengths, ""
		if !n.MedianExact {
			about = "about "
		}
		text := fmt.Sprintf("%s to %s, median %s%s", Number(int64(n.Min)), Count(n.Max, "element", "elements"), about,
			Number(int64(n.Median)))
		if n.Min == n.Max {
			text = Count(n.Max, "element", "elements") + " each"
		}
		made := fmt.Sprintf("%s of %s", Count(int(n.Rows), "row", "rows"), Count(int(records), "record", "records"))
		if in != "" && strings.HasPrefix(l.Path, in+"."+schema.ValueName) {
			text += fmt.Sprintf("; in the values of the map %s, where it stays", in)
		} else if outer, _, within := strings.Cut(l.Path, "."+schema.ElementName); within {
			text += fmt.Sprintf("; a row for each makes %s, once there is one for each of %s", made, outer)
		} else {
			text += fmt.Sprintf("; --unnest %s makes %s", l.Path, made)
		}
		facts = append(facts, fact{name: l.Path, value: text})
	}
	if len(facts) > 0 {
		s.Printf("\nLists:\n")
		s.facts(facts)
	}
}

// notes writes the remarks on columns.
func notes(s Screen, lines []columnEvidence, folder string) {
	var facts []fact
	for _, l := range lines {
		if l.Note != "" {
			note := l.Note
			if len(l.Against) > 0 {
				var examples []string
				for _, a := range l.Against[:min(3, len(l.Against))] {
					examples = append(examples, fmt.Sprintf("%q at %s", cut(a.Value, 24), a.where(folder)))
				}
				note += ": " + strings.Join(examples, ", ")
			}
			facts = append(facts, fact{name: l.Path, value: note})
		}
	}
	if len(facts) > 0 {
		s.Printf("\nWorth a look:\n")
		s.facts(facts)
	}
}

// advice writes what the evidence suggests.
func advice(s Screen, a infer.Advice, geometries bool) {
	var facts []fact
	if geometries {
		facts = append(facts, fact{name: "--geometry wkb",
			value: "a column for each property, and geometries as WKB with bounding boxes (GeoParquet)"})
	}
	for _, k := range a.Keys {
		facts = append(facts, fact{name: "--key " + k.Column, value: k.Reason})
	}
	for _, p := range a.Partitions {
		about := "about "
		if p.Exact {
			about = ""
		}
		facts = append(facts, fact{name: "--partition '" + p.Field + "'",
			value: fmt.Sprintf("%s: %s%s, each with about %s rows, %s as Parquet", p.Reason, about,
				Count(int(p.Partitions), "partition", "partitions"), Number(p.Rows), Size(p.Bytes))})
	}
	if len(facts) == 0 {
		return
	}
	s.Printf("\nCould be used:\n")
	s.facts(facts)
}

// longestExtreme is how much is shown of a smallest or largest value.
const longestExtreme = 24

// commonFolder returns the folder that all objects of a source lie in or below, with a slash at its end, empty where there is
// one object alone.
func commonFolder(source *source.Source) string {
	if len(source.Inputs) == 1 {
		return ""
	}
	folder := filepath.Dir(source.Inputs[0].Location)
	for _, in := range source.Inputs[1:] {
		for folder != "." && folder != "/" && !strings.HasPrefix(in.Location, folder+"/") {
			folder = filepath.Dir(folder)
		}
	}
	return strings.TrimSuffix(folder, "/") + "/"
}

// columnEvidence is what is shown of one column or part.
type columnEvidence struct {
	Path          string
	Name          string
	Origin        string
	Type          string
	Format        string
	NullTokens    map[string]int64
	Pinned        bool
	Required      bool
	Values        int64
	Nulls         int64
	Lengths       *lengths
	Distinct      int64
	DistinctExact bool
	Smallest      string
	Largest       string
	Longest       int
	Forced        *placed
	Seen          map[string]int64
	First         []placed
	Against       []placed
	Note          string
	Parts         []columnEvidence

	depth  int
	kind   schema.Kind
	unseen bool
	own    bool
	others int64
}

// lengths is how long lists are, and how many rows there are when each element is one.
type lengths struct {
	Min         int
	Median      int
	MedianExact bool
	Max         int
	Rows        int64
}

// placed is a value with its class and its place.
type placed struct {
	Location string
	Line     int64
	Offset   *int64
	Class    string
	Value    string
}

func place(i *infer.Inference, class schema.Class, n schema.Instance) placed {
	return placed{Location: i.Source.Inputs[n.Place.Object].Location, Line: n.Place.Line, Offset: parse.KnownOffset(n.Place.Offset),
		Class: class.String(), Value: n.Text}
}

// evidence lists the columns and parts, parents first.
func evidence(i *infer.Inference) []columnEvidence {
	var out []columnEvidence
	parents, rows := []int64{i.Records}, []int64{i.Records}
	i.Walk(func(path string, f *schema.Field, n *schema.Node, depth int) {
		parents, rows = parents[:depth+1], rows[:depth+1]
		c, made := column(i, path, f, n, parents[depth], depth), rows[depth]
		if l := n.ListLengths(); l != nil && f.Type.Kind == schema.List {
			made += l.Rows() - l.Arrays()
			c.Lengths = &lengths{Rows: made}
			c.Lengths.Min, c.Lengths.Max = l.Range()
			c.Lengths.Median, c.Lengths.MedianExact = l.Median()
		}
		out, rows = append(out, masked(i.Mask, c)), append(rows, made)
		below := n.Counts[schema.ClassObject.Index()]
		switch {
		case f.Type.Kind == schema.List && n.Element != nil:
			elements := n.Elements()
			below = elements.Evidence.Values() + elements.Nulls()
		case f.Type.Kind == schema.Map:
			values := n.Dictionary()
			below = values.Evidence.Values() + values.Nulls()
		}
		parents = append(parents, below)
	})
	return out
}

// masked is the evidence of a column without values that are not told.
func masked(m mask.Mask, c columnEvidence) columnEvidence {
	if !m.Hides(c.Path) && !m.Hides(c.Origin) {
		return c
	}
	hide := func(list []placed) {
		for i := range list {
			list[i].Value = mask.Shown
		}
	}
	hide(c.First)
	hide(c.Against)
	if c.Forced != nil {
		forced := *c.Forced
		forced.Value = mask.Shown
		c.Forced = &forced
	}
	if c.Smallest != "" {
		c.Smallest, c.Largest, c.kind = mask.Shown, mask.Shown, schema.String
	}
	var tokens int64
	for _, n := range c.NullTokens {
		tokens += n
	}
	if c.NullTokens = nil; tokens > 0 {
		c.NullTokens = map[string]int64{mask.Shown: tokens}
	}
	c.Note = m.Text(c.Note)
	return c
}

func column(i *infer.Inference, path string, f *schema.Field, n *schema.Node, parents int64, depth int) columnEvidence {
	nulls := f.Notation.Nulls
	values := n.Present(nulls)
	c := columnEvidence{Path: path, Name: f.Name, Origin: f.Origin, Type: f.Type.String(), Format: f.Notation.Format, Pinned: f.Pinned,
		Required: f.Required,
		Values:   values, Nulls: parents - values, Longest: n.LongestValue(nulls), Seen: map[string]int64{}, First: []placed{},
		NullTokens: n.Tokens, depth: depth, kind: f.Type.Kind, unseen: f.Unseen, others: f.Others}
	c.Distinct, c.DistinctExact = n.DistinctValues(nulls)
	if !f.Type.Nested() {
		c.Smallest, c.Largest = n.Range(f.Type.Kind, nulls)
	}
	for at, count := range n.Counts {
		if class := schema.Class(1 << at); count > 0 {
			c.Seen[class.String()] = count
			for _, first := range n.Instances(class)[:min(1, len(n.Instances(class)))] {
				c.First = append(c.First, place(i, class, first))
			}
		}
	}
	if c.own = i.Own; c.own {
		c.Pinned, c.First, c.Seen = false, []placed{}, map[string]int64{}
		return c
	}
	if class, ok := schema.Forced(n.Seen, n.First); ok && !f.Pinned {
		first := place(i, class, n.Instances(class)[0])
		c.Forced = &first
	}
	for _, a := range i.Against(n) {
		if class := classOf(n, a); f.Others == 0 || class != schema.ClassToken {
			c.Against = append(c.Against, place(i, class, a))
		}
	}
	c.Note = i.Note(path, f, n)
	return c
}

// classOf finds the class that an instance was kept for.
func classOf(n *schema.Node, a schema.Instance) schema.Class {
	for i := range schema.Classes {
		for _, b := range n.Instances(schema.Class(1 << i)) {
			if a == b {
				return schema.Class(1 << i)
			}
		}
	}
	return schema.ClassText
}

// shortType leaves out the parts, which have lines of their own.
func (c columnEvidence) shortType() string {
	text := c.Type
	if c.nested() {
		text = c.kind.String()
	}
	if c.Format != "" {
		text += " " + c.Format
	}
	if c.Pinned {
		text += " (pinned)"
	}
	return text
}

func (c columnEvidence) nested() bool {
	return c.kind == schema.Struct || c.kind == schema.List || c.kind == schema.Map
}

// filled is the share of values that are there, of the objects or elements that the column is a part of.
func (c columnEvidence) filled() string {
	all := c.Values + c.Nulls
	switch share := 100 * float64(c.Values) / float64(max(1, all)); {
	case all == 0:
		return ""
	case c.Values == all, c.Values == 0, share >= 1 && share <= 99:
		return fmt.Sprintf("%.0f%%", share)
	case share < 0.1, share > 99.9:
		return map[bool]string{true: "<0.1%", false: ">99.9%"}[share < 0.1]
	default:
		return fmt.Sprintf("%.1f%%", share)
	}
}

func (c columnEvidence) distinct() string {
	switch {
	case c.nested():
		return ""
	case c.DistinctExact:
		return Number(c.Distinct)
	}
	return "~" + Number(c.Distinct)
}

func (c columnEvidence) longest() string {
	if c.nested() || c.own && c.kind != schema.String {
		return ""
	}
	return Number(int64(c.Longest))
}

// settledBy tells the line that forced the type.
func (c columnEvidence) settledBy(folder string) string {
	switch {
	case c.own:
		return "the files"
	case c.others > 0:
		return "most values"
	case c.Pinned:
		return "pinned"
	case c.unseen && c.Values == 0:
		return "no value seen"
	case c.Forced == nil:
		return ""
	}
	where := c.Forced.where(folder)
	if c.Forced.Value == "" || c.nested() {
		return where
	}
	return where + " " + cut(fmt.Sprintf("%q", c.Forced.Value), 24)
}

func (p placed) where(folder string) string {
	if folder == "" {
		return fmt.Sprintf("line %d", p.Line)
	}
	return fmt.Sprintf("%s:%d", strings.TrimPrefix(p.Location, folder), p.Line)
}

// ColumnEvidence writes everything that is known of one column.
func ColumnEvidence(s Screen, i *infer.Inference, path string) error {
	field, _, err := i.Column(path)
	if err != nil {
		return err
	}
	folder := commonFolder(i.Source.Source)
	for _, c := range evidence(i) {
		if at, _, err := i.Column(c.Path); err != nil || at != field {
			continue
		}
		s.Printf("%s  %s\n", s.Bold(c.Path), c.shortType())
		facts := []fact{{name: "in the source", value: orName(c.Origin, c.Name)},
			{name: "values", value: fmt.Sprintf("%s, %s null", Number(c.Values), Number(c.Nulls))}}
		if !c.nested() {
			facts = append(facts, fact{name: "distinct", value: c.distinct()}, fact{name: "smallest", value: c.Smallest},
				fact{name: "largest", value: c.Largest},
				fact{name: "longest", value: Count(c.Longest, "character", "characters")})
		}
		if by := c.settledBy(folder); by != "" {
			facts = append(facts, fact{name: "settled by", value: by})
		}
		if c.Note != "" {
			facts = append(facts, fact{name: "note", value: c.Note})
		}
		s.facts(facts)
		if len(c.First) == 0 {
			return nil
		}
		s.Printf("\n")
		t := Table{Header: []string{"seen as", "values", "first at", "value"}, Right: []bool{false, true}, Indent: 2}
		for _, first := range c.First {
			t.Rows = append(t.Rows, []string{first.Class, Number(c.Seen[first.Class]), first.where(folder), cut(first.Value, 60)})
		}
		t.Write(s)
		if len(c.Against) > 0 {
			s.Printf("\n  Against the majority:\n")
			for _, a := range c.Against {
				s.Printf("    %s  %s: %q\n", a.where(folder), a.Class, cut(a.Value, 60))
			}
		}
	}
	return nil
}

func orName(origin, name string) string {
	if origin == "" {
		return name
	}
	return origin
}
