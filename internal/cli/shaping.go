package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/shape"
)

// shapeFlags are the flags that say what form rows get.
type shapeFlags struct {
	where                  string
	nested, separator      string
	depth                  int
	lists                  string
	unnest                 []string
	unnestEmpty            string
	unnestIndex            bool
	unnestCount, confirmed bool
	nest, derive           []string
	nestRows, nestKey      string
}

func (f *shapeFlags) add(cmd *cobra.Command) {
	section(cmd, sectionForm, func(flags *pflag.FlagSet) {
		flags.StringVar(&f.where, "where", "", "keep the records for which an `expression` is true, like 'ok and depth > 3'")
		flags.StringVar(&f.nested, "nested", "keep", "`what` becomes of objects within records: keep them, or flatten them into a column for each member")
		flags.StringVar(&f.separator, "path-separator", shape.DefaultSeparator, "`text` between the parts of a flattened column's name")
		flags.IntVar(&f.depth, "flatten-depth", 0, "how many `levels` of objects are flattened; 0 for all")
		flags.StringVar(&f.lists, "lists", "keep", "`what` becomes of lists and maps that flattening leaves: keep them, or write them as json text")
		flags.StringArrayVar(&f.unnest, "unnest", nil, "make a row of each element of a `list`; a,b goes through two lists side by side; may be repeated, which multiplies rows")
		flags.BoolVar(&f.unnestIndex, "unnest-index", false, "add a column LIST_index with the position of each element, from 0")
		flags.BoolVar(&f.unnestCount, "unnest-count", false, "add a column LIST_count with how many elements the list has: 0 for an empty one, null for none")
		flags.StringVar(&f.unnestEmpty, "unnest-empty", "keep", "`what` becomes of records whose list is empty or absent: keep them as a row, or drop them")
		flags.BoolVar(&f.confirmed, "confirm-multiply", false, "go on where several --unnest make more than 10 rows of a record on average")
		flags.StringArrayVar(&f.nest, "nest", nil, "make an object of columns, `NAME=COL,COL`; may be repeated")
		flags.StringVar(&f.nestRows, "nest-rows", "", "make one row of consecutive rows that agree in all but some columns, which become a list: `LIST=COL,COL`")
		flags.StringVar(&f.nestKey, "nest-key", "", "with --nest-rows: bring rows together that agree in `COL,COL`, wherever they stand in a file")
		flags.StringArrayVar(&f.derive, "derive", nil, "add a column of an expression, `COL=EXPRESSION`, like 'depth_ft = depth_m * 3.28084'; may be repeated")
	})
}

// spec turns the flags into a shape.
func (f *shapeFlags) spec() (shape.Spec, error) {
	s := shape.Spec{Where: f.where, Separator: f.separator, Depth: f.depth, Index: f.unnestIndex, Count: f.unnestCount, DropEmpty: f.unnestEmpty == "drop", Flatten: f.nested == "flatten",
		ListsAsJSON: f.lists == "json"}
	switch {
	case f.nested != "keep" && f.nested != "flatten":
		return s, fault.New(fault.Usage, "--nested %s is not known", f.nested).Try("use keep or flatten")
	case f.lists != "keep" && f.lists != "json":
		return s, fault.New(fault.Usage, "--lists %s is not known", f.lists).Try("use keep or json")
	case f.unnestEmpty != "keep" && f.unnestEmpty != "drop":
		return s, fault.New(fault.Usage, "--unnest-empty %s is not known", f.unnestEmpty).Try("use keep or drop")
	case f.depth < 0:
		return s, fault.New(fault.Usage, "--flatten-depth counts from 0 on")
	case (f.lists == "json" || f.depth > 0) && !s.Flatten:
		return s, fault.New(fault.Usage, "--lists and --flatten-depth are for flattened records").Try("add --nested flatten")
	case f.separator != shape.DefaultSeparator && !s.Flatten:
		return s, fault.New(fault.Usage, "--path-separator has no effect where records are not flattened").Try("add --nested flatten, or leave it out")
	case (f.unnestIndex || f.unnestCount || s.DropEmpty || f.confirmed) && len(f.unnest) == 0:
		return s, fault.New(fault.Usage, "--unnest-index, --unnest-count, --unnest-empty and --confirm-multiply are for --unnest").Try("name a list: --unnest LIST")
	}
	for _, text := range f.unnest {
		s.Unnest = append(s.Unnest, strings.Split(text, ","))
	}
	for _, text := range f.nest {
		name, columns, ok := strings.Cut(text, "=")
		if !ok || name == "" || columns == "" {
			return s, fault.New(fault.Usage, "--nest %q does not name an object and its columns", text).Try("write it like --nest position=lat,lon")
		}
		s.Nest = append(s.Nest, shape.Nest{Name: name, Columns: strings.Split(columns, ",")})
	}
	if f.nestRows != "" {
		name, columns, ok := strings.Cut(f.nestRows, "=")
		if !ok || name == "" || columns == "" {
			return s, fault.New(fault.Usage, "--nest-rows %q does not name a list and its columns", f.nestRows).Try("write it like --nest-rows readings=sensor,value")
		}
		s.NestRows = shape.Nest{Name: name, Columns: strings.Split(columns, ",")}
	}
	if f.nestKey != "" {
		if f.nestRows == "" {
			return s, fault.New(fault.Usage, "--nest-key is for --nest-rows").Try("name the list and its columns: --nest-rows LIST=COL,COL")
		}
		s.NestKey = strings.Split(f.nestKey, ",")
	}
	for _, text := range f.derive {
		name, value, ok := strings.Cut(text, "=")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.TrimSpace(value) == "" {
			return s, fault.New(fault.Usage, "--derive %q does not name a column and its expression", text).Try("write it like --derive 'depth_ft = depth_m * 3.28084'")
		}
		s.Derive = append(s.Derive, shape.Derivation{Name: name, Text: strings.TrimSpace(value)})
	}
	return s, nil
}
