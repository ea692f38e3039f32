package runsheet

import (
	"fmt"
	"slices"
	"strings"

	"trevak/internal/wording"
)

// agrees refuses a sheet whose feeds name each other wrongly.
func (s *Sheet) agrees() error {
	lines := map[string]int64{}
	var names []string
	for _, f := range s.Feeds {
		if line, twice := lines[f.Name]; twice {
			return wrong(f.Line, "give each feed a name of its own", "the feed %s is there twice, first in line %d", f.Name, line)
		}
		lines[f.Name] = f.Line
		names = append(names, f.Name)
	}
	for _, f := range s.Feeds {
		for _, before := range f.After {
			if before == f.Name {
				return wrong(f.Line, "leave it out of after", "the feed %s waits for itself", f.Name)
			}
			if _, ok := lines[before]; !ok {
				way := "it can be one of " + strings.Join(names, ", ")
				if near := wording.Nearest(before, names); len(near) > 0 {
					way = wording.Meant(near)
				}
				return wrong(f.Line, way, "the feed %s comes after %s, which is no feed of the sheet", f.Name, before)
			}
		}
		if err := f.agrees(); err != nil {
			return err
		}
	}
	units, err := s.Units()
	if err != nil {
		return err
	}
	for _, u := range units {
		if err := u.agrees(); err != nil {
			return err
		}
	}
	return nil
}

// agrees refuses feeds of a group that go to the same table.
func (u Unit) agrees() error {
	taken := map[string]string{}
	for _, f := range u.Feeds {
		tables := []string{f.One("table.into")}
		if len(f.Routes) > 0 {
			tables = nil
			for _, r := range f.Routes {
				if !r.Drop {
					tables = append(tables, r.One("table.into"))
				}
			}
		}
		for _, into := range tables {
			if other := taken[into]; other != "" && other != f.Name {
				return wrong(f.Line, "have one of them come after the other, outside of the group",
					"the feeds %s and %s, which are loaded together, both go to the table %s", other, f.Name, into)
			}
			taken[into] = f.Name
		}
	}
	return nil
}

func (f *Feed) agrees() error {
	if f.Group != "" && f.When != "" {
		return wrong(f.Line, "leave the condition or the group out",
			"the feed %s is of the group %s, whose feeds are loaded together or not at all, and has a condition",
			f.Name, f.Group)
	}
	if len(f.Routes) == 0 {
		if f.One("table.into") == "" {
			return wrong(f.Line, "write it like table: {into: orrin.tides}", "the feed %s does not say which table it goes to", f.Name)
		}
		return nil
	}
	last := f.Routes[len(f.Routes)-1]
	if !last.Rest {
		return wrong(last.Line,
			"end with a route for the rest: rest: true with a table of its own, or rest: drop to have it counted and left out",
			"the routes of the feed %s leave open where the rest goes", f.Name)
	}
	byObjects, byRecords := 0, 0
	taken := map[string]int64{}
	for i, r := range f.Routes {
		if into := r.One("table.into"); !r.Drop {
			if line := taken[into]; line > 0 && into != "" {
				return wrong(r.Line, "have one route take both, like objects: '{north,south}/*', or records: a OR b",
					"two routes of the feed %s go to the table %s, the first in line %d", f.Name, into, line)
			}
			taken[into] = r.Line
		}
		if r.Rest && i < len(f.Routes)-1 {
			return wrong(r.Line, "put it at the end", "the route for the rest comes before others")
		}
		if r.Objects != "" {
			byObjects++
		}
		if r.Records != "" {
			byRecords++
		}
		if !r.Drop && r.One("table.into") == "" {
			return wrong(r.Line, "write it like table: {into: orrin.tides}", "the route does not say which table it goes to")
		}
	}
	if byObjects > 0 && byRecords > 0 {
		return wrong(f.Routes[0].Line, "have one feed for the objects, and others for their records",
			"the routes of the feed %s are by objects and by records", f.Name)
	}
	return nil
}

// ByRecords reports whether records are told apart, and not objects.
func (f *Feed) ByRecords() bool {
	return slices.ContainsFunc(f.Routes, func(r Route) bool { return r.Records != "" })
}

// Unit is what is carried out at once: a feed, or the feeds of a group.
type Unit struct {
	Feeds []*Feed
	// After are the units that have to be done before, by their numbers.
	After []int
}

// Units are what the sheet's feeds are carried out in, in an order in which all come after those that they wait for.
func (s *Sheet) Units() ([]Unit, error) {
	of := map[string]int{} // by feed
	groups := map[string]int{}
	var units []Unit
	for i := range s.Feeds {
		f := &s.Feeds[i]
		at, known := groups[f.Group]
		if f.Group == "" || !known {
			at = len(units)
			units = append(units, Unit{})
			if f.Group != "" {
				groups[f.Group] = at
			}
		}
		units[at].Feeds = append(units[at].Feeds, f)
		of[f.Name] = at
	}
	for i := range units {
		for _, f := range units[i].Feeds {
			for _, before := range f.After {
				if at := of[before]; at == i {
					return nil, wrong(f.Line, "leave it out, or take the feed out of the group",
						"the feed %s waits for %s, with which it is loaded together",
						f.Name, before)
				} else if !slices.Contains(units[i].After, at) {
					units[i].After = append(units[i].After, at)
				}
			}
		}
	}
	return ordered(units)
}

// ordered puts units behind those that they wait for, and otherwise leaves their order.
func ordered(units []Unit) ([]Unit, error) {
	place := make([]int, len(units)) // 1 on: where a unit came to lie; -1 while it is looked at
	var out []Unit
	var visit func(i int, path []string) error
	visit = func(i int, path []string) error {
		f := units[i].Feeds[0]
		switch {
		case place[i] > 0:
			return nil
		case place[i] < 0:
			from := slices.Index(path, f.Name)
			return wrong(f.Line, "leave one of them out of after", "the feeds wait for each other: %s", strings.Join(append(path[max(0, from):],
				f.Name), ", "))
		}
		place[i] = -1
		after := make([]int, 0, len(units[i].After))
		for _, before := range units[i].After {
			if err := visit(before, append(slices.Clone(path), f.Name)); err != nil {
				return err
			}
			after = append(after, place[before]-1)
		}
		out = append(out, Unit{Feeds: units[i].Feeds, After: after})
		place[i] = len(out)
		return nil
	}
	for i := range units {
		if err := visit(i, nil); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// FeedNamed returns the feed of a name.
func (s *Sheet) FeedNamed(name string) (*Feed, error) {
	var names []string
	for i := range s.Feeds {
		if s.Feeds[i].Name == name {
			return &s.Feeds[i], nil
		}
		names = append(names, s.Feeds[i].Name)
	}
	return nil, wrong(0, fmt.Sprintf("it has %s", strings.Join(names, ", ")), "the run sheet has no feed %s", name)
}
