// Package layout decides which file each row goes to: it computes partition values, gathers the rows of each partition, and
// opens and closes files so that neither the number of partitions nor the size of the input decides how much memory is used.
//
// What comes in are record batches in order; what goes out are finished files with their partition values and summaries.
package layout

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/wording"
)

// Transform is how a partition value is made from a column, as the Iceberg specification defines it ("Partition Transforms").
type Transform struct {
	// Name is identity, year, month, day, hour, bucket or truncate.
	Name string
	// Width is the number of buckets, or what values are truncated to.
	Width int
	// Column is the legal path of the source column.
	Column string
	// As is the partition field's name where a table already gave it one; otherwise it follows from the transform.
	As string
}

// FieldName returns the name of the partition field, which is also its folder's: made of the column's name, with _ for what a
// name in an Avro schema may not have (Avro specification, "Names"), as manifests are written in Avro.
func (t Transform) FieldName() string {
	if t.As != "" {
		return t.As
	}
	name := strings.Map(func(r rune) rune {
		if r == '_' || r >= '0' && r <= '9' || r|0x20 >= 'a' && r|0x20 <= 'z' {
			return r
		}
		return '_'
	}, t.Column)
	if name[0] >= '0' && name[0] <= '9' {
		name = "_" + name
	}
	switch t.Name {
	case "identity":
		return name
	case "truncate":
		return name + "_trunc"
	}
	return name + "_" + t.Name
}

// String writes the transform as it is stated: sea_area, day(observed_at), bucket(16,id).
func (t Transform) String() string {
	switch t.Name {
	case "identity":
		return t.Column
	case "bucket", "truncate":
		return fmt.Sprintf("%s(%d,%s)", t.Name, t.Width, t.Column)
	}
	return t.Name + "(" + t.Column + ")"
}

// Spec is the transforms of a partitioning, outermost first. An empty one is no partitioning.
type Spec []Transform

// String writes the transforms with commas between them.
func (s Spec) String() string {
	parts := make([]string, len(s))
	for i, t := range s {
		parts[i] = t.String()
	}
	return strings.Join(parts, ",")
}

var transformForm = regexp.MustCompile(`^\s*([a-z]+)\s*\(\s*(?:(\d+)\s*,)?\s*([^()]+?)\s*\)\s*$`)

// ParseSpec reads transforms separated by commas: day(observed_at),bucket(16,id),sea_area. Columns are named as in the source or
// legally; the result names them legally.
func ParseSpec(text string, s schema.Schema) (Spec, error) {
	var spec Spec
	seen := map[string]string{}
	for _, part := range splitOutside(text) {
		t, err := parseTransform(part)
		if err != nil {
			return nil, err
		}
		f, path, err := ColumnPath(s, t.Column)
		if err != nil {
			return nil, err
		}
		t.Column = path
		if !t.fits(f.Type.Kind) {
			return nil, fault.New(fault.Usage, "%s cannot be made of column %q, which is a %s", t, path, f.Type).
				Try("%s takes %s", t.Name, takes[t.Name])
		}
		if other, ok := seen[t.FieldName()]; ok {
			return nil, fault.New(fault.Usage, "%s and %s would both be called %q", other, t, t.FieldName()).Try("leave one of them out")
		}
		seen[t.FieldName()] = t.String()
		spec = append(spec, t)
	}
	return spec, nil
}

// Column finds a top-level column by its legal name, its name in the source, or either in another letter case.
func Column(s schema.Schema, name string) (*schema.Field, error) {
	for _, same := range []func(a, b string) bool{func(a, b string) bool { return a == b }, strings.EqualFold} {
		for i := range s.Fields {
			if f := &s.Fields[i]; same(f.Name, name) || same(f.Source(), name) {
				return f, nil
			}
		}
	}
	var names []string
	for _, f := range s.Fields {
		names = append(names, f.Name)
	}
	return nil, fault.New(fault.Usage, "there is no column %q", name).Try("%s", schema.Choices(name, names))
}

// splitOutside splits at commas that are not within parentheses.
func splitOutside(text string) []string {
	var parts []string
	depth, start := 0, 0
	for i, r := range text {
		switch {
		case r == '(':
			depth++
		case r == ')':
			depth--
		case r == ',' && depth == 0:
			parts = append(parts, text[start:i])
			start = i + 1
		}
	}
	return append(parts, text[start:])
}

func parseTransform(text string) (Transform, error) {
	m := transformForm.FindStringSubmatch(text)
	if m == nil {
		name := strings.TrimSpace(text)
		if name == "" {
			return Transform{}, fault.New(fault.Usage, "a partition field is empty").Try("write it like 'day(observed_at),sea_area'")
		}
		return Transform{Name: "identity", Column: name}, nil
	}
	t := Transform{Name: m[1], Column: m[3]}
	if _, ok := takes[t.Name]; !ok {
		e := fault.New(fault.Usage, "%q is not a partition transform", t.Name)
		const all = "write a column alone, or year, month, day, hour, bucket(n,column) or truncate(width,column)"
		if near := wording.Nearest(t.Name, slices.Sorted(maps.Keys(takes))); len(near) > 0 {
			return t, e.Try("%s; %s", wording.Meant(near[:1]), all)
		}
		return t, e.Try(all)
	}
	sized := t.Name == "bucket" || t.Name == "truncate"
	if sized != (m[2] != "") {
		return t, fault.New(fault.Usage, "%q is not complete", strings.TrimSpace(text)).Try("write it like %s", map[bool]string{
			true: t.Name + "(16," + t.Column + ")", false: t.Name + "(" + t.Column + ")"}[sized])
	}
	if sized {
		width, err := strconv.Atoi(m[2])
		if err != nil || width < 1 || width > 1<<30 {
			return t, fault.New(fault.Usage, "%s is no width for %s", m[2], t.Name).Try("use a whole number from 1 on")
		}
		t.Width = width
	}
	return t, nil
}

// takes says which columns each transform is made of.
var takes = map[string]string{
	"identity": "any column that is neither nested nor floating-point",
	"year":     "dates and timestamps",
	"month":    "dates and timestamps",
	"day":      "dates and timestamps",
	"hour":     "timestamps",
	"bucket":   "any column that is neither nested, floating-point nor boolean",
	"truncate": "int, long, decimal, string and binary columns",
}

func (t Transform) fits(k schema.Kind) bool {
	instant := k == schema.Timestamp || k == schema.TimestampTz
	floating := k == schema.Float || k == schema.Double
	switch t.Name {
	case "year", "month", "day":
		return instant || k == schema.Date
	case "hour":
		return instant
	case "bucket":
		return k < schema.Struct && !floating && k != schema.Boolean
	case "truncate":
		return k == schema.Int || k == schema.Long || k == schema.Decimal || k == schema.String || k == schema.Binary
	}
	return k < schema.Struct && !floating
}
