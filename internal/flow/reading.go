package flow

import (
	"context"
	"io"
	"slices"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/parse/json"
	"trevak/internal/schema"
	"trevak/internal/shape"
	"trevak/internal/sniff"
	"trevak/internal/storage"
)

// Reading is what the user says about the source.
type Reading struct {
	// Sources are paths, folders and patterns.
	Sources []string
	// Stdin is what "-" stands for among the sources.
	Stdin io.Reader
	// Store is where sources, destinations and kept records lie.
	Store storage.Store
	// MayExpand lifts the guard against objects that unpack to very much, Mixed the one against files in a folder that are unlike the others.
	MayExpand, Mixed bool
	// Particular are flags that were stated and speak of some formats only.
	Particular []Particular
	// WKB makes columns of the properties of GeoJSON, and WKB of its geometries; see UseWKB.
	WKB bool
	// Prefixes keeps the prefixes of names in XML, MixedText the markup of elements in which text stands among elements.
	Prefixes, MixedText bool
	// Unsure says what becomes of the run where a reading rule could be another.
	Unsure Unsure
	// Looking says that nothing comes of the reading but a look at it.
	Looking bool
	// found are the objects where they were resolved before.
	found *locate.Found
	// Stated are the reading rules that are fixed.
	Stated sniff.Stated
	// Corrections are what is fixed about the columns.
	Corrections schema.Corrections
	// Scan says how much is looked at before the schema is settled.
	Scan Scan
	// Lineage adds columns that tell where each row came from; PathColumns is a template of columns in the objects' paths.
	Lineage bool
	// ParentID adds a column that tells records apart: the object's location and the record's number in it.
	ParentID bool
	// KeepRaw adds a column with the record as it was read.
	KeepRaw     bool
	PathColumns string
	// Favor is what codecs are chosen for where they are chosen by trial.
	Favor Favor
	// PartitionValues are columns with one value for the whole run, by which rows are partitioned.
	PartitionValues []PartitionValue
	// Shape is what becomes of the form of rows.
	Shape shape.Spec
	// Formed takes rows as ones in another form even where that is their own.
	Formed bool
	// Confirmed lets rows become very many more than records.
	Confirmed bool
	// Limits bound what a record may take.
	Limits Limits
	// Tolerate is how many records may fail to become rows, and Quarantine the file they go to; empty for one named after the target.
	Tolerate Tolerance
	// Misfits is how many values of a stated column may be misfits; the zero value allows none.
	Misfits Tolerance
	// BadElsewhere says that the same records are kept elsewhere when they fail.
	BadElsewhere bool
	Quarantine   string
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

// parse returns the limits of the parsers.
func (l Limits) parse() parse.Limits {
	p := parse.DefaultLimits
	if l.RecordBytes > 0 {
		// A record that is too large is noticed when a whole block does not hold it.
		p.RecordBytes, p.BlockBytes = l.RecordBytes, min(p.BlockBytes, l.RecordBytes)
	}
	return p
}

// mostColumns is how many columns and parts of columns a source may have.
func (l Limits) mostColumns() int {
	if l.Columns == 0 {
		return maxColumns
	}
	return l.Columns
}

// checkColumns refuses more columns than allowed.
func (l Limits) checkColumns(n int, location string) error {
	if n <= l.mostColumns() {
		return nil
	}
	return fault.New(fault.Input, "has %d columns and parts of columns, more than %d", n, l.mostColumns()).In(location).
		Try("check that it is read as it should be; if it is, allow more with --max-columns")
}

// tooMany refuses records of which more members were found than allowed, without looking for all.
func (l Limits) tooMany(most int, in Input) error {
	each := json.Path{}
	if in.Rules.Records != nil {
		each = in.Rules.Records
	}
	return fault.New(fault.Input, "has records with more than %d different keys", most).In(in.Location).
		Try("where keys are values, --records '%s' makes a row of each member; if they are names, allow more with --max-columns", each.Each(true))
}

// resolve finds the objects once, however often they are read then.
func (r *Reading) resolve(ctx context.Context) (err error) {
	if r.found == nil {
		var found locate.Found
		if found, err = locate.Resolve(ctx, r.Store, r.Sources, r.Stdin); err == nil {
			r.found = &found
		}
	}
	return err
}
