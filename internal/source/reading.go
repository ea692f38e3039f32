package source

import (
	"context"
	"io"
	"slices"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/mask"
	"trevak/internal/parse"
	"trevak/internal/parse/json"
	"trevak/internal/sniff"
	"trevak/internal/storage"
)

// Reading is what the user says about the objects of a source and how they are read.
type Reading struct {
	// Sources are paths, folders and patterns.
	Sources []string
	// Stdin is what "-" stands for among the sources.
	Stdin io.Reader
	// Store is where sources, destinations and kept records lie.
	Store storage.Store
	// MayExpand lifts the guard against objects that unpack to very much, Mixed the one against files in a folder that are
	// unlike the others.
	MayExpand, Mixed bool
	// Particular are flags that were stated and speak of some formats only.
	Particular []Particular
	// WKB makes columns of the properties of GeoJSON, and WKB of its geometries.
	WKB bool
	// Prefixes keeps the prefixes of names in XML, MixedText the markup of elements in which text stands among elements.
	Prefixes, MixedText bool
	// Unsure says what becomes of the run where a reading rule could be another.
	Unsure Unsure
	// Looking says that nothing comes of the reading but a look at it.
	Looking bool
	// Stated are the reading rules that are fixed.
	Stated sniff.Stated
	// Limits bound what a record may take.
	Limits Limits
	// Mask is the columns whose values are not told.
	Mask mask.Mask
	// Known tells files that need not be looked at, since they are known; it may be nil.
	Known func(o storage.Object) bool
	// found are the objects where they were resolved before.
	found *locate.Found
}

// Particular is a flag that speaks of some formats only.
type Particular struct {
	Flag    string
	Formats []sniff.Format
}

// speaks refuses flags that speak of no object of the source.
func (s *Source) speaks(flags []Particular) error {
	for _, p := range flags {
		if !slices.ContainsFunc(s.Inputs, func(in Input) bool { return slices.Contains(p.Formats, in.Rules.Format) }) {
			return fault.New(fault.Usage, "%s has no effect on %s", p.Flag, s.Format()).In(s.Inputs[0].Location).Try("leave it out")
		}
	}
	return nil
}

// Limits bound what one record may take. A limit of 0 is the default.
type Limits struct {
	// RecordBytes is the most that a record may have, Columns the most columns and parts of columns that a source may have, and Depth how
	// many objects and lists may lie within each other.
	RecordBytes, Columns, Depth int
}

// maxColumns is how many columns and parts of columns a source may have where nothing else is said.
const maxColumns = 20_000

// Parse returns the limits of the parsers.
func (l Limits) Parse() parse.Limits {
	p := parse.DefaultLimits
	if l.RecordBytes > 0 {
		// A record that is too large is noticed when a whole block does not hold it.
		p.RecordBytes, p.BlockBytes = l.RecordBytes, min(p.BlockBytes, l.RecordBytes)
	}
	return p
}

// MostColumns is how many columns and parts of columns a source may have.
func (l Limits) MostColumns() int {
	if l.Columns == 0 {
		return maxColumns
	}
	return l.Columns
}

// CheckColumns refuses more columns than allowed.
func (l Limits) CheckColumns(n int, location string) error {
	if n <= l.MostColumns() {
		return nil
	}
	return fault.New(fault.Input, "has %d columns and parts of columns, more than %d", n, l.MostColumns()).In(location).
		Try("check that it is read as it should be; if it is, allow more with --max-columns")
}

// TooMany refuses records of which more members were found than allowed, without looking for all.
func (l Limits) TooMany(most int, in Input) error {
	each := json.Path{}
	if in.Rules.Records != nil {
		each = in.Rules.Records
	}
	return fault.New(fault.Input, "has records with more than %d different keys", most).In(in.Location).
		Try("where keys are values, --records '%s' makes a row of each member; if they are names, allow more with --max-columns",
			each.Each(true))
}

// Give has the reading be of objects at the versions that they were listed at, whatever the sources would name now.
func (r *Reading) Give(ctx context.Context, objects []storage.Object) error {
	found, err := locate.Given(ctx, r.Store, objects)
	if err == nil {
		r.found = &found
	}
	return err
}

// Found returns the objects, once they are resolved, and the files that were known.
func (r *Reading) Found() (objects []locate.Object, known []string) {
	return r.found.Objects, r.found.Known
}

// Keep leaves out of the objects, once they are resolved, those that are not wanted. The reading that it is a copy of keeps its own.
func (r *Reading) Keep(wanted func(o locate.Object) bool) {
	found := *r.found
	found.Objects = nil
	for _, o := range r.found.Objects {
		if wanted(o) {
			found.Objects = append(found.Objects, o)
		}
	}
	r.found = &found
}

// Resolve finds the objects once, however often they are read then.
func (r *Reading) Resolve(ctx context.Context) (err error) {
	if r.found == nil {
		var found locate.Found
		if found, err = locate.ResolveBut(ctx, r.Store, r.Sources, r.Stdin, r.Known); err == nil {
			r.found = &found
		}
	}
	return err
}
