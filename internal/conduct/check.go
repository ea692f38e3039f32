package conduct

import (
	"context"

	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/runsheet"
)

// Checked is what a look at a feed found.
type Checked struct {
	Feed string
	// Tables are those that it goes to, Objects how many there are for it.
	Tables  []string
	Objects int
	// Err is what is wrong with it, and Why it would not run as things are.
	Err error
	Why string
}

// Check makes the checks of all feeds that their loads would make before they write, on a sample of the records. Nothing is written.
func Check(ctx context.Context, s *runsheet.Sheet, o Options, b run.Budget) ([]Checked, error) {
	c := &conductor{sheet: s, o: o, share: b}
	c.o.DryRun = true
	var out []Checked
	for i := range s.Feeds {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out = append(out, c.check(ctx, &s.Feeds[i]))
	}
	return out, nil
}

func (c *conductor) check(ctx context.Context, f *runsheet.Feed) Checked {
	out := Checked{Feed: f.Name}
	fail := func(s *settling, err error) Checked {
		out.Err = s.blame(err)
		return out
	}
	s, err := c.settle(ctx, f)
	defer s.end()
	if err != nil {
		return fail(s, err)
	}
	seen := map[string]bool{}
	add := func(name string) {
		if name != "" && !seen[name] {
			seen[name] = true
			out.Tables = append(out.Tables, name)
		}
	}
	for _, r := range f.Routes {
		if !r.Drop {
			add(r.One("table.into"))
		}
	}
	if len(f.Routes) == 0 {
		add(f.One("table.into"))
	}
	holds, why, err := s.when(ctx)
	if err != nil {
		return fail(s, err)
	}
	if !holds {
		out.Why = why
		return out
	}
	for i, l := range s.requests {
		if err := l.Resolve(ctx); err != nil {
			return fail(s, err)
		}
		objects, _ := l.Found()
		if !f.ByRecords() || i == 0 {
			out.Objects += len(objects)
		}
		if err := load.Check(ctx, l, c.share); err != nil {
			return fail(s, err)
		}
	}
	out.Objects += s.dropped
	return out
}
