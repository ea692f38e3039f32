package setting

import (
	"strings"

	"trevak/internal/fault"
	"trevak/internal/shape"
)

// shape is what form rows get.
func (f *Flow) shape() (shape.Spec, error) {
	s := shape.Spec{Where: f.Where, Separator: f.PathSeparator, Depth: f.FlattenDepth, Index: f.UnnestIndex, Count: f.UnnestCount,
		DropEmpty: f.UnnestEmpty == "drop", Flatten: f.Nested == "flatten",
		ListsAsJSON: f.Lists == "json"}
	switch {
	case f.Nested != "keep" && f.Nested != "flatten":
		return s, fault.Unknown("nested", f.Nested, "keep", "flatten")
	case f.Lists != "keep" && f.Lists != "json":
		return s, fault.Unknown("lists", f.Lists, "keep", "json")
	case f.UnnestEmpty != "keep" && f.UnnestEmpty != "drop":
		return s, fault.Unknown("unnest-empty", f.UnnestEmpty, "keep", "drop")
	case f.FlattenDepth < 0:
		return s, fault.New(fault.Usage, "--flatten-depth counts from 0 on")
	case (f.Lists == "json" || f.FlattenDepth > 0) && !s.Flatten:
		return s, fault.New(fault.Usage, "--lists and --flatten-depth are for flattened records").Try("add --nested flatten")
	case f.PathSeparator != shape.DefaultSeparator && !s.Flatten:
		return s, fault.New(fault.Usage,
			"--path-separator has no effect where records are not flattened").Try("add --nested flatten, or leave it out")
	case (f.UnnestIndex || f.UnnestCount || s.DropEmpty || f.ConfirmMultiply) && len(f.Unnest) == 0:
		return s, fault.New(fault.Usage,
			"--unnest-index, --unnest-count, --unnest-empty and --confirm-multiply are for --unnest").Try("name a list: --unnest LIST")
	}
	for _, text := range f.Unnest {
		s.Unnest = append(s.Unnest, strings.Split(text, ","))
	}
	for _, text := range f.Nest {
		name, columns, ok := strings.Cut(text, "=")
		if !ok || name == "" || columns == "" {
			return s, fault.New(fault.Usage, "--nest %q does not name an object and its columns",
				text).Try("write it like --nest position=lat,lon")
		}
		s.Nest = append(s.Nest, shape.Nest{Name: name, Columns: strings.Split(columns, ",")})
	}
	if f.NestRows != "" {
		name, columns, ok := strings.Cut(f.NestRows, "=")
		if !ok || name == "" || columns == "" {
			return s, fault.New(fault.Usage, "--nest-rows %q does not name a list and its columns",
				f.NestRows).Try("write it like --nest-rows readings=sensor,value")
		}
		s.NestRows = shape.Nest{Name: name, Columns: strings.Split(columns, ",")}
	}
	if f.NestKey != "" {
		if f.NestRows == "" {
			return s, fault.New(fault.Usage,
				"--nest-key is for --nest-rows").Try("name the list and its columns: --nest-rows LIST=COL,COL")
		}
		s.NestKey = strings.Split(f.NestKey, ",")
	}
	for _, text := range f.Derive {
		name, value, ok := strings.Cut(text, "=")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.TrimSpace(value) == "" {
			return s, fault.New(fault.Usage, "--derive %q does not name a column and its expression",
				text).Try("write it like --derive 'depth_ft = depth_m * 3.28084'")
		}
		s.Derive = append(s.Derive, shape.Derivation{Name: name, Text: strings.TrimSpace(value)})
	}
	return s, nil
}
