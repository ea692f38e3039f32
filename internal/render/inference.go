package render

import (
	"fmt"
	"path/filepath"
	"strings"

	"trevak/internal/flow"
	"trevak/internal/schema"
)

// Inference writes a line for each column, and below nested ones a line for each part.
func Inference(s Screen, i *flow.Inference) {
	s.Printf("%s\n\n", s.Bold(fmt.Sprintf("%s in %s, every one looked at", Count(int(i.Records), "record", "records"),
		Count(len(i.Source.Inputs), "object", "objects"))))
	lines, folder := evidence(i), commonFolder(i.Source)
	renamed := false
	for _, l := range lines {
		renamed = renamed || l.Origin != ""
	}
	t := Table{Header: []string{"column", "type", "nulls", "distinct", "smallest", "largest", "longest", "settled by"},
		Right: []bool{false, false, true, true, false, false, true, false}, Keep: true}
	if renamed {
		t.Header = append(t.Header, "in the source")
	}
	for _, l := range lines {
		cells := []string{strings.Repeat("  ", l.depth) + l.Name, l.shortType(), Number(l.Nulls), l.distinct(), cut(l.Smallest, longestExtreme),
			cut(l.Largest, longestExtreme), l.longest(), l.settledBy(folder)}
		if renamed {
			cells = append(cells, l.Origin)
		}
		t.Rows = append(t.Rows, cells)
	}
	t.Write(s)
	if folder != "" {
		s.Printf("\nFiles are in %s.\n", folder)
	}
	if e := i.Problem(); e != nil {
		s.Printf("\n%s cannot be read, so a load would stop. The first:\n  %s\n", Count(int(i.Observed.Problems), "record", "records"), e)
	}
}

// longestExtreme is how much is shown of a smallest or largest value.
const longestExtreme = 24

// commonFolder returns the folder that all objects of a source lie in or below, with a slash at its end, empty where there is
// one object alone.
func commonFolder(source *flow.Source) string {
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
	Name          string           `json:"name"`
	Origin        string           `json:"origin,omitempty"`
	Type          string           `json:"type"`
	Pinned        bool             `json:"pinned"`
	Values        int64            `json:"values"`
	Nulls         int64            `json:"nulls"`
	Distinct      int64            `json:"distinct"`
	DistinctExact bool             `json:"distinct_exact"`
	Smallest      string           `json:"smallest"`
	Largest       string           `json:"largest"`
	Longest       int              `json:"longest"`
	Forced        *forcedBy        `json:"forced_by,omitempty"`
	Seen          map[string]int64 `json:"seen"`
	Parts         []columnEvidence `json:"parts,omitempty"`

	depth  int
	kind   schema.Kind
	unseen bool
}

// forcedBy is the first place of what made the type what it is.
type forcedBy struct {
	Location string `json:"location"`
	Line     int64  `json:"line"`
	Offset   int64  `json:"byte_offset"`
	Class    string `json:"class"`
	Value    string `json:"value"`
}

// evidence flattens the tree of columns, parents first.
func evidence(i *flow.Inference) []columnEvidence {
	var out []columnEvidence
	var visit func(list []columnEvidence)
	visit = func(list []columnEvidence) {
		for _, c := range list {
			out = append(out, c)
			visit(c.Parts)
		}
	}
	visit(columns(i, i.Schema.Fields, i.Observed.Root.Fields, i.Records, 0))
	return out
}

// columns pairs fields with their nodes. parents is how many values the fields could have.
func columns(i *flow.Inference, fields []schema.Field, nodes []*schema.Node, parents int64, depth int) []columnEvidence {
	out := make([]columnEvidence, len(fields))
	for n, f := range fields {
		out[n] = column(i, f, nodes[n], parents, depth)
	}
	return out
}

func column(i *flow.Inference, f schema.Field, n *schema.Node, parents int64, depth int) columnEvidence {
	kind := f.Type.Kind
	c := columnEvidence{Name: f.Name, Origin: f.Origin, Type: f.Type.String(), Pinned: f.Pinned, Values: n.Values(), Nulls: parents - n.Values(),
		Longest: n.Longest, Seen: map[string]int64{}, depth: depth, kind: kind, unseen: f.Unseen}
	c.Distinct, c.DistinctExact = n.Distinct.Estimate()
	c.Distinct = min(c.Distinct, c.Values)
	c.Smallest, c.Largest = n.Range(kind)
	for at, count := range n.Counts {
		if count > 0 {
			c.Seen[schema.Class(1<<at).String()] = count
		}
	}
	if class, ok := schema.Forced(n.Seen, func(c schema.Class) schema.Place { return n.First[c.Index()] }); ok && !f.Pinned {
		place := n.First[class.Index()]
		c.Forced = &forcedBy{Location: i.Source.Inputs[place.Object].Location, Line: place.Line, Offset: place.Offset, Class: class.String(),
			Value: n.Example[class.Index()]}
	}
	objects := n.Counts[schema.ClassObject.Index()]
	switch {
	case kind == schema.Struct && !f.Pinned:
		c.Parts = columns(i, f.Type.Fields, n.Fields, objects, depth+1)
	case kind == schema.List && !f.Pinned:
		elements := n.Element.Values() + n.Element.Nulls()
		c.Parts = []columnEvidence{column(i, *f.Type.Element, n.Element, elements, depth+1)}
	}
	return c
}

// shortType leaves out the parts, which have lines of their own.
func (c columnEvidence) shortType() string {
	text := c.kind.String()
	if c.kind != schema.Struct && c.kind != schema.List {
		text = c.Type
	}
	if c.Pinned {
		text += " (pinned)"
	}
	return text
}

func (c columnEvidence) nested() bool { return c.kind == schema.Struct || c.kind == schema.List }

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
	if c.nested() {
		return ""
	}
	return Number(int64(c.Longest))
}

// settledBy tells the line that forced the type.
func (c columnEvidence) settledBy(folder string) string {
	switch {
	case c.Pinned:
		return "stated"
	case c.unseen && c.Values == 0:
		return "no value seen"
	case c.Forced == nil:
		return ""
	}
	where := fmt.Sprintf("line %d", c.Forced.Line)
	if folder != "" {
		where = fmt.Sprintf("%s:%d", strings.TrimPrefix(c.Forced.Location, folder), c.Forced.Line)
	}
	if c.Forced.Value == "" || c.nested() {
		return where
	}
	return where + " " + cut(fmt.Sprintf("%q", c.Forced.Value), 24)
}

// InferenceJSON writes an inference for programs.
func InferenceJSON(s Screen, i *flow.Inference) error {
	out := struct {
		Objects    []string         `json:"objects"`
		Records    int64            `json:"records"`
		Unreadable int64            `json:"records_unreadable"`
		Problem    string           `json:"first_problem,omitempty"`
		Columns    []columnEvidence `json:"columns"`
	}{Records: i.Records, Unreadable: i.Observed.Problems, Columns: orEmpty(columns(i, i.Schema.Fields, i.Observed.Root.Fields, i.Records, 0))}
	for _, in := range i.Source.Inputs {
		out.Objects = append(out.Objects, in.Location)
	}
	if e := i.Problem(); e != nil {
		out.Problem = e.Error()
	}
	return JSON(s, out)
}
