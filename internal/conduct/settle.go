package conduct

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/locate"
	"trevak/internal/runsheet"
	"trevak/internal/schema"
	"trevak/internal/setting"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// settling is a feed made into loads.
type settling struct {
	feed     *runsheet.Feed
	requests []load.Request
	// used are the settings of each load, to blame them.
	used [][]setting.Setting
	// none says that the sources name nothing, objects how many they name otherwise, and dropped how many no route took.
	none             error
	objects, dropped int
	bytes            int64
	// end gives up what was kept for the loads.
	end func()
}

// settle finds the objects of a feed, and makes its loads.
func (c *conductor) settle(ctx context.Context, f *runsheet.Feed) (*settling, error) {
	s := &settling{feed: f, end: func() {}}
	base, err := c.base(f, s)
	if err != nil {
		return s, err
	}
	if f.ByRecords() {
		// Each route reads the records for itself; objects that lie far away are fetched for the first of them.
		base.Store, s.end = storage.Fetch(base.Store)
	}
	if given, ok := c.o.Given[f.Name]; ok {
		err = base.Give(ctx, given)
	} else if len(f.Routes) > 0 || f.When != "" {
		err = base.Resolve(ctx)
	}
	if isNothing(err) && f.When != "" {
		s.none = err
		return s, nil
	}
	if err != nil {
		return s, err
	}
	if len(f.Routes) == 0 {
		s.requests = []load.Request{base}
		return s, nil
	}
	s.used = nil
	objects, _ := base.Found()
	if f.ByRecords() {
		return s, c.byRecords(f, base.Reading.Reading, s)
	}
	return s, c.byObjects(f, base.Reading.Reading, objects, s)
}

// base makes the load of a feed as a whole.
func (c *conductor) base(f *runsheet.Feed, s *settling) (load.Request, error) {
	if c.o.Request != nil {
		return c.o.Request()
	}
	return c.request(f, f.Feed, f.Add, s)
}

// TakenIn tells objects of a feed that its tables have taken in as they are; nil where there are none.
func TakenIn(ctx context.Context, f *runsheet.Feed, o Options) (func(storage.Object) bool, error) {
	c := &conductor{o: o}
	if len(f.Routes) == 0 {
		l, err := c.base(f, &settling{feed: f})
		if err != nil {
			return nil, err
		}
		return load.KnownTo(ctx, l)
	}
	var all []func(storage.Object) bool
	for _, r := range f.Routes {
		if r.Drop {
			continue
		}
		l, err := c.request(f, r.Feed, nil, &settling{feed: f})
		if err != nil {
			return nil, err
		}
		known, err := load.KnownTo(ctx, l)
		if err != nil || known == nil && f.ByRecords() {
			return nil, err
		}
		if known != nil {
			all = append(all, known)
		}
	}
	if f.ByRecords() {
		return func(o storage.Object) bool {
			return !slices.ContainsFunc(all, func(k func(storage.Object) bool) bool { return !k(o) })
		}, nil
	}
	return func(o storage.Object) bool {
		return slices.ContainsFunc(all, func(k func(storage.Object) bool) bool { return k(o) })
	}, nil
}

// byObjects makes a load of each route that objects take.
func (c *conductor) byObjects(f *runsheet.Feed, of source.Reading, objects []locate.Object, s *settling) error {
	taken := make([]map[string]bool, len(f.Routes))
	for i := range taken {
		taken[i] = map[string]bool{}
	}
	for _, o := range objects {
		at := -1
		for i, r := range f.Routes {
			if r.Rest && at < 0 {
				at = i
			}
			if r.Rest || !takes(r.Objects, o.Location) {
				continue
			}
			if at >= 0 {
				e := fault.New(fault.Usage, "two routes of the feed %s take it: %s and %s", f.Name, f.Routes[at].Objects, r.Objects).In(o.Location).
					Try("write the patterns so that each object has one route")
				return e
			}
			at = i
		}
		taken[at][o.Location] = true
	}
	for i, r := range f.Routes {
		switch {
		case len(taken[i]) == 0:
			continue
		case r.Drop:
			s.dropped = len(taken[i])
			continue
		}
		l, err := c.request(f, r.Feed, slices.Concat(f.Add, r.Add), s)
		if err != nil {
			return err
		}
		l.Reading.Reading = withObjects(l.Reading.Reading, of)
		l.Keep(func(o locate.Object) bool { return taken[i][o.Location] })
		s.requests = append(s.requests, l)
	}
	return nil
}

// takes reports whether a pattern takes a location: the whole of it, or as much of its end as the pattern has parts.
func takes(pattern, location string) bool {
	location = strings.ReplaceAll(location, `\`, "/")
	if ok, err := doublestar.Match(pattern, location); err == nil && ok {
		return true
	}
	ok, err := doublestar.Match("**/"+strings.TrimPrefix(pattern, "/"), location)
	return err == nil && ok
}

// withObjects has a reading be of the objects that another found.
func withObjects(r, of source.Reading) source.Reading {
	found := of
	found.Particular, found.WKB, found.Prefixes, found.MixedText, found.Unsure = r.Particular, r.WKB, r.Prefixes, r.MixedText, r.Unsure
	found.Stated, found.Limits, found.MayExpand, found.Mixed = r.Stated, r.Limits, r.MayExpand, r.Mixed
	return found
}

// byRecords makes a load of each route: a record goes where the first condition holds.
func (c *conductor) byRecords(f *runsheet.Feed, of source.Reading, s *settling) error {
	own := f.One("shape.where")
	var before []string
	first := true
	for _, r := range f.Routes {
		holds := ""
		if r.Records != "" {
			holds = "(" + r.Records + ") IS TRUE"
		}
		var all []string
		if own != "" {
			all = append(all, "("+own+")")
		}
		for _, other := range before {
			all = append(all, "NOT ("+other+")")
		}
		if holds != "" {
			all = append(all, holds)
			before = append(before, holds)
		}
		if r.Drop {
			continue
		}
		feed := *r.Feed
		feed.Values = cloned(feed.Values)
		feed.Values["shape.where"] = []string{strings.Join(all, " AND ")}
		l, err := c.request(f, &feed, slices.Concat(f.Add, r.Add), s)
		if err != nil {
			return err
		}
		l.Reading.Reading = withObjects(l.Reading.Reading, of)
		// A record that becomes no row is kept once.
		l.BadElsewhere = !first
		first = false
		s.requests = append(s.requests, l)
	}
	return nil
}

func cloned(m map[string][]string) map[string][]string {
	out := map[string][]string{}
	for k, v := range m {
		out[k] = v
	}
	return out
}

// request makes a load of what a feed, or a route of it, says.
func (c *conductor) request(f *runsheet.Feed, of feedOf, add []runsheet.Added, s *settling) (load.Request, error) {
	flow := setting.New()
	used, err := of.Fill(flow, func(setting.Setting) bool { return false })
	s.used = append(s.used, used)
	if err != nil {
		return load.Request{}, err
	}
	for _, a := range add {
		flow.Derive = append(flow.Derive, a.Column+" = "+literal(a))
	}
	if flow.Into == "" && len(f.Routes) > 0 {
		flow.Into = f.Routes[0].One("table.into")
	}
	declared, err := of.Fields()
	if err != nil {
		return load.Request{}, err
	}
	w := *c.o.Warehouse
	l, err := requestOf(flow, setting.Env{Sources: flow.Files, Store: c.o.Store, Form: true, Columns: true, Declared: declared}, &w,
		c.o.DryRun)
	l.QuarantineFolder = QuarantineFolder(&w)
	l.Spread = c.o.Judge != nil && f.Unlike != "off"
	return l, err
}

// QuarantineFolder is where runs keep bad records that are to lie nowhere else: beside the tables, wherever the program runs.
func QuarantineFolder(w *table.Warehouse) string { return storage.Join(w.Dir(), ".quarantine") }

// requestOf makes a load of a flow.
func requestOf(flow *setting.Flow, env setting.Env, w *table.Warehouse, dry bool) (load.Request, error) {
	if slices.Contains(env.Sources, "-") {
		return load.Request{}, fault.New(fault.Usage, "the source - is standard input, which a run sheet has none of").
			Try("name a file, a folder, a pattern or an address")
	}
	if len(env.Sources) == 0 {
		return load.Request{}, fault.New(fault.Usage, "no source is named").Try("write it like source: {files: [tides/*.tsv]}")
	}
	t, err := flow.Task(env)
	if err != nil {
		return load.Request{}, err
	}
	l, err := flow.LoadRequest(t, w, true)
	l.DryRun = dry
	return l, err
}

// literal writes a value as expressions have it.
func literal(a runsheet.Added) string {
	quoted := "'" + strings.ReplaceAll(a.Value, "'", "''") + "'"
	switch a.Type {
	case runsheet.Whole, runsheet.Number, runsheet.YesNo:
		return a.Value
	case runsheet.Date:
		return "DATE " + quoted
	}
	return quoted
}

// blame names the key of the sheet, or of the feed file, in an error about a flag that nobody stated.
func (s *settling) blame(err error) error {
	if s == nil || s.feed == nil {
		return err
	}
	for i, used := range s.used {
		of := s.feed.Feed
		if i < len(s.feed.Routes) && len(s.requests) > 0 && len(s.feed.Routes) > 0 {
			of = s.feed.Routes[i].Feed
		}
		err = of.Blame(err, used)
	}
	var e *fault.Error
	if errors.As(err, &e) && e.Kind == fault.Usage && e.Object == "" {
		e.Line = s.feed.Line
		return e.In(s.feed.Path)
	}
	return err
}

// adds holds the accounts of routes by records against each other: each record went to one of them, and none to two.
func (s *settling) adds(reports []*write.Report) error {
	if !s.feed.ByRecords() || len(reports) != len(s.requests) || s.feed.Routes[len(s.feed.Routes)-1].Drop || s.feed.One("shape.where") != "" {
		return nil
	}
	var kept int64
	for _, r := range reports {
		if r.NothingNew || r.RecordsRead != reports[0].RecordsRead || r.RecordsQuarantined != reports[0].RecordsQuarantined ||
			r.RecordsSkipped != reports[0].RecordsSkipped {
			// They took other objects in, or records fit the one and not the other.
			return nil
		}
		kept += r.RecordsKept
	}
	first := reports[0]
	if kept+first.RecordsQuarantined+first.RecordsSkipped != first.RecordsRead {
		return fault.New(fault.Storage, "of %d records of the feed %s its routes took %d", first.RecordsRead, s.feed.Name, kept).
			Try("this is a fault of the program; the tables hold what their reports say")
	}
	return nil
}

// feedOf is what feeds and routes have in common.
type feedOf interface {
	Fill(flow *setting.Flow, pass func(setting.Setting) bool) ([]setting.Setting, error)
	Fields() ([]schema.Field, error)
	One(key string) string
}

// when tells whether the condition of the feed holds, and why not.
func (s *settling) when(ctx context.Context) (bool, string, error) {
	if s.feed.When == "" {
		return true, "", nil
	}
	fresh := 0
	if s.none == nil {
		for i, l := range s.requests {
			objects, new, bytes, err := load.Fresh(ctx, l)
			if err != nil {
				return false, "", err
			}
			if s.feed.ByRecords() && i > 0 {
				fresh = max(fresh, new)
				continue
			}
			s.objects, s.bytes = s.objects+objects, s.bytes+bytes
			fresh += new
		}
	}
	holds, err := runsheet.Holds(s.feed.When, runsheet.Facts{Objects: int64(s.objects), New: int64(fresh), Bytes: s.bytes})
	var e *fault.Error
	if errors.As(err, &e) {
		e.Line = s.feed.Line
	}
	return holds, fmt.Sprintf("%s does not hold: objects = %d, new = %d, bytes = %d", s.feed.When, s.objects, fresh, s.bytes), err
}
