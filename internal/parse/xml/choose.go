package xml

import (
	"fmt"
	"slices"
	"strings"

	"trevak/internal/fault"
)

// Choice is which elements of a document are its records, and why.
type Choice struct {
	Records []string
	Why     string
	// Question is set where that must be stated; Records are the likeliest then.
	Question error
	// Unsure says that much of the document is in no record.
	Unsure bool
}

// vocabulary is where records are in documents of open standards, by the name of the root.
var vocabulary = []struct {
	root, records, what string
}{
	{"feed", "feed/entry", "entries of Atom (RFC 4287)"},
	{"rss", "rss/channel/item", "items of RSS"},
	{"RDF", "RDF/item", "items of RSS"},
	{"gpx", "gpx/trk/trkseg/trkpt", "track points of GPX"},
	{"gpx", "gpx/rte/rtept", "route points of GPX"},
	{"gpx", "gpx/wpt", "waypoints of GPX"},
	{"urlset", "urlset/url", "addresses of a site map"},
}

// Shares of a document's values that the elements at a path hold, to be taken for the records or not to stand in the way of others.
const (
	mainShare = 0.5
	sureShare = 0.75 // below it a document may be one record
	otherPart = 4    // the next best holds no more than one in so many of what the best holds
	// With fewer than fewRecords, and at least fewOthers values besides, a document is one record.
	fewRecords = 3
	fewOthers  = 3
)

// Choose settles which elements are records: those that are stated; those of a known vocabulary; those that repeat, lie in no
// other that does, and hold most of the document; the only child of the root; or the root itself.
func (s *Survey) Choose() (Choice, error) {
	if s.options.Records != "" {
		return s.stated()
	}
	for _, v := range vocabulary {
		if s.elements[v.records] != nil && localRoot(s.root) == v.root {
			return Choice{Records: []string{v.records}, Why: s.besides(v.records, v.what)}, nil
		}
	}
	var repeated []string
	for _, path := range sorted(s.elements) {
		if s.elements[path].repeats > 0 && !slices.ContainsFunc(ancestors(path),
			func(a string) bool { return s.elements[a].repeats > 0 }) {
			repeated = append(repeated, path)
		}
	}
	slices.SortStableFunc(repeated, func(a, b string) int { return s.elements[b].values - s.elements[a].values })
	switch {
	case len(repeated) == 0 || s.partsOfOne(repeated):
		return s.single(), nil
	case len(repeated) == 1 || s.share(repeated[0]) >= mainShare &&
		s.elements[repeated[0]].values >= otherPart*s.elements[repeated[1]].values:
		why := "the only element that repeats"
		if len(repeated) > 1 {
			why = fmt.Sprintf("of the elements that repeat the one that holds most: %.0f%% of the values", 100*s.share(repeated[0]))
		}
		return Choice{Records: repeated[:1], Why: s.besides(repeated[0], why), Unsure: s.share(repeated[0]) < sureShare}, nil
	}
	if s.only() != "" {
		return s.single(), nil
	}
	return Choice{Records: repeated[:1], Why: "the likeliest",
		Question: fault.New(fault.Usage, "has several elements that could be records: %s", s.describe(repeated)).
			Try("name one: --records /%s; or give --records more than once; --records /%s makes one record of the document", repeated[0],
				s.root)}, nil
}

// localRoot is a root's name without a prefix.
func localRoot(root string) string { return root[strings.LastIndexByte(root, '_')+1:] }

// share is the part of the document's values that the elements at a path hold.
func (s *Survey) share(path string) float64 {
	return float64(s.elements[path].values) / float64(max(1, s.values))
}

// partsOfOne reports whether few elements repeat, in a document that holds other values besides: they are parts of a single record.
func (s *Survey) partsOfOne(repeated []string) bool {
	return !slices.ContainsFunc(repeated, func(path string) bool {
		besides := s.values - s.elements[path].values
		return s.elements[path].count >= fewRecords || besides < fewOthers && (besides == 0 || s.only() == "")
	})
}

// only returns the path of the only child of the root that has members, empty where there is none: an envelope around one record.
func (s *Survey) only() string {
	root := s.elements[s.root]
	if root.children != 1 {
		return ""
	}
	for path, f := range s.elements {
		if strings.HasPrefix(path, s.root+"/") && strings.Count(path, "/") == 1 && len(f.names) > 0 {
			return path
		}
	}
	return ""
}

// single takes the document for one record.
func (s *Survey) single() Choice {
	if only := s.only(); only != "" {
		return Choice{Records: []string{only}, Why: s.besides(only, "no element is sure to be one of many records, so the only one "+
			"in the root is the record")}
	}
	return Choice{Records: []string{s.root}, Why: "nothing repeats that could be records, so the document is one record"}
}

// besides adds to a reason what part of the document is in no record.
func (s *Survey) besides(path, why string) string {
	if others := s.values - s.elements[path].values; others > 0 {
		why += fmt.Sprintf("; %d of %d values are in none", others, s.values)
	}
	return why
}

// stated finds the elements that are named by their paths or names.
func (s *Survey) stated() (Choice, error) {
	var records []string
	for _, name := range strings.Split(s.options.Records, ",") {
		want := strings.Trim(strings.TrimSpace(name), "/")
		if want == "" {
			want = s.root // the path / is that of the document
		}
		var matching []string
		for _, path := range sorted(s.elements) {
			if path == want || !strings.HasPrefix(name, "/") && strings.HasSuffix(path, "/"+want) {
				matching = append(matching, path)
			}
		}
		switch {
		case len(matching) == 0:
			return Choice{}, fault.New(fault.Usage, "has no element %q", name).Try("write its path from the root, like /%s", s.example())
		case len(matching) > 1:
			return Choice{}, fault.New(fault.Usage, "has several elements called %q: %s", name,
				s.describe(matching)).Try("write the path of one: --records /%s", matching[0])
		}
		records = append(records, matching[0])
	}
	slices.Sort(records)
	for i, path := range records {
		for _, other := range records[i+1:] {
			if path == other || slices.Contains(ancestors(other), path) {
				return Choice{}, fault.New(fault.Usage, "--records names /%s and /%s, which lies in it", path,
					other).Try("name elements that do not lie within each other")
			}
		}
	}
	return Choice{Records: records, Why: "stated"}, nil
}

// example is a path of the document that is likely to be meant.
func (s *Survey) example() string {
	best := s.root
	for _, path := range sorted(s.elements) {
		if f := s.elements[path]; f.count > s.elements[best].count && len(f.names) > 0 {
			best = path
		}
	}
	return best
}

// describe lists elements with how many there are.
func (s *Survey) describe(paths []string) string {
	const most = 6
	var list []string
	for _, path := range paths[:min(len(paths), most)] {
		list = append(list, fmt.Sprintf("/%s (%d)", path, s.elements[path].count))
	}
	if len(paths) > most {
		list = append(list, fmt.Sprintf("and %d more", len(paths)-most))
	}
	return strings.Join(list, ", ")
}

// Has reports whether the document has an element at a path.
func (s *Survey) Has(path string) bool { return s.elements[path] != nil }
