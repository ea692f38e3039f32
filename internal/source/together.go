package source

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/sniff"
	"trevak/internal/wording"
)

// kin is the objects of a source that have names in common, directly or through others.
type kin struct {
	members []int
	names   map[string]bool
	bytes   int64
}

// take adds the objects of another group.
func (k *kin) take(o *kin) {
	k.members, k.bytes = append(k.members, o.members...), k.bytes+o.bytes
	for n, is := range o.names {
		k.names[n] = is
	}
}

// belongTogether refuses a source of which a folder or a pattern brought files that are unlike the others, a note to the reader
// among tables for example: its lines would become rows.
func (s *Source) belongTogether() error {
	if len(s.Inputs) < 2 || !slices.ContainsFunc(s.Inputs, func(in Input) bool { return in.Matched }) {
		return nil
	}
	groups := s.kindred()
	if len(groups) < 2 {
		return nil
	}
	main := slices.MaxFunc(groups, func(a, b *kin) int {
		if len(a.members) != len(b.members) {
			return len(a.members) - len(b.members)
		}
		return int(a.bytes - b.bytes)
	})
	var outliers []string
	for _, g := range groups {
		if g == main {
			continue
		}
		for _, i := range g.members {
			outliers = append(outliers, fmt.Sprintf("%s (%s)", s.Inputs[i].Location, s.describe(i)))
		}
	}
	first := slices.Min(main.members)
	others := fmt.Sprintf("the other %d objects, as %s (%s)", len(main.members), s.Inputs[first].Location, s.describe(first))
	if len(main.members) == 1 {
		others = fmt.Sprintf("%s (%s)", s.Inputs[first].Location, s.describe(first))
	}
	stand := "stands"
	if len(outliers) > 1 {
		stand = "stand"
	}
	way := "name the files that are meant, or take all of them with --mixed-files"
	if pattern := s.patternOf(main); pattern != "" {
		way = fmt.Sprintf("name the files that are meant, like '%s', or take all of them with --mixed-files", pattern)
	}
	return fault.New(fault.Input, "%s %s apart from %s: its records would become rows among theirs", wording.Some(outliers), stand,
		others).Try("%s", way)
}

// kindred groups the objects by format and names. Objects of which no names are known are with any others of their format,
// unless they have but one column beside those with more.
func (s *Source) kindred() []*kin {
	var groups []*kin
	var nameless []int
	for i, in := range s.Inputs {
		names := s.namesOf(i)
		if names == nil {
			nameless = append(nameless, i)
			continue
		}
		format := string(in.Rules.Format.Family())
		var into *kin
		joined := groups[:0]
		for _, g := range groups {
			_, same := g.names[format]
			switch {
			case !same || !slices.ContainsFunc(names, func(n string) bool { return g.names[n] }):
				joined = append(joined, g)
			case into == nil:
				into = g
				joined = append(joined, g)
			default:
				into.take(g)
			}
		}
		if groups = joined; into == nil {
			into = &kin{names: map[string]bool{format: false}}
			groups = append(groups, into)
		}
		into.members, into.bytes = append(into.members, i), into.bytes+in.Size
		for _, n := range names {
			into.names[n] = true
		}
	}
	for _, i := range nameless {
		groups = s.shelter(groups, i)
	}
	return groups
}

// shelter puts an object without names to a group that it can be of.
func (s *Source) shelter(groups []*kin, i int) []*kin {
	in := s.Inputs[i]
	for _, g := range groups {
		first := s.Inputs[g.members[0]]
		single := in.Rules.Format == sniff.Delimited && (len(in.Rules.Names) == 1) != (len(first.Rules.Names) == 1)
		if first.Rules.Format.Family() == in.Rules.Format.Family() && !single {
			g.members, g.bytes = append(g.members, i), g.bytes+in.Size
			return groups
		}
	}
	return append(groups, &kin{members: []int{i}, bytes: in.Size, names: map[string]bool{string(in.Rules.Format.Family()): false}})
}

// namesOf returns the names of an object's columns in one letter case, nil where they are not known before its records are read.
func (s *Source) namesOf(i int) []string {
	rules := s.Inputs[i].Rules
	names := rules.Keys
	if rules.Format.Columnar() || rules.Format == sniff.Delimited &&
		(rules.Header || !slices.Equal(rules.Names, sniff.Positional(len(rules.Names)))) {
		names = rules.Names
	}
	if len(names) == 0 {
		return nil
	}
	out := make([]string, len(names))
	for n, name := range names {
		out[n] = "." + strings.ToLower(name)
	}
	return out
}

// describe says in a few words what an object looks like.
func (s *Source) describe(i int) string {
	rules := s.Inputs[i].Rules
	names := s.namesOf(i)
	if names == nil && rules.Format == sniff.Delimited {
		return fmt.Sprintf("%s without a header, %s", rules.Format.Noun(),
			wording.Count(int64(len(rules.Names)), true, "column", "columns"))
	}
	if names == nil {
		return rules.Format.Noun()
	}
	shown := rules.Names
	if len(shown) == 0 {
		shown = rules.Keys
	}
	quoted := make([]string, min(3, len(shown)))
	for n := range quoted {
		quoted[n] = fault.Quote(shown[n])
	}
	text := strings.Join(quoted, ", ")
	if len(shown) > len(quoted) {
		text += fmt.Sprintf(" and %d more", len(shown)-len(quoted))
	}
	return fmt.Sprintf("%s with %s", rules.Format.Noun(), text)
}

// patternOf returns a pattern that matches the objects of a group and no others of the source; it is empty where their endings
// do not tell.
func (s *Source) patternOf(g *kin) string {
	ending := path.Ext(s.Inputs[g.members[0]].Location)
	folder := path.Dir(s.Inputs[g.members[0]].Location)
	for i, in := range s.Inputs {
		if in.Holder() != in.Location || (path.Ext(in.Location) == ending) != slices.Contains(g.members, i) {
			return ""
		}
		for !strings.HasPrefix(in.Location, folder+"/") && folder != "." && folder != "/" {
			folder = path.Dir(folder)
		}
	}
	if ending == "" {
		return ""
	}
	return path.Join(folder, "**", "*"+ending)
}
