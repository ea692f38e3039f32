package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/schema"
)

// correctionFlags are the flags that fix what inference would otherwise decide.
type correctionFlags struct {
	types, renames            []string
	only, drop, required, key []string
	nulls                     []string
	names, decimalMark, scan  string
	mixed                     string
	declared                  []schema.Field // from a feed file
}

func (f *correctionFlags) add(cmd *cobra.Command) {
	section(cmd, sectionColumns, func(flags *pflag.FlagSet) {
		flags.StringArrayVar(&f.types, "type", nil, "fix a column's type, `COL=TYPE`, as in depth=double or when='timestamp(%d.%m.%Y %H:%M)'; may be repeated")
		flags.StringArrayVar(&f.renames, "rename", nil, "give a column another name, `OLD=NEW`; may be repeated")
		flags.StringSliceVar(&f.only, "only", nil, "the `columns` that are wanted, and no others")
		flags.StringSliceVar(&f.drop, "drop", nil, "`columns` that are not wanted")
		flags.StringSliceVar(&f.required, "required", nil, "`columns` that always have a value; a record without one is bad")
		flags.StringSliceVar(&f.key, "key", nil, "the `columns` that tell one record from all others; they are required")
		flags.StringVar(&f.names, "names", "safe", "`style` of column names: safe, keep, or snake")
		flags.StringSliceVar(&f.nulls, "nulls", nil, "`texts` that stand for no value in every column, like NA,-")
		flags.StringVar(&f.decimalMark, "decimal-mark", "", "the `mark` before the fraction of numbers in delimited text, comma or point; thousands may then be set apart")
		flags.StringVar(&f.mixed, "mixed", "text", "`what` becomes of columns whose values are of types that have nothing to do with each other: text, or misfit, which takes the type of more than half of the values and keeps the others in _misfit")
		flags.StringVar(&f.scan, "scan", "", "which `records` to look at before types are settled: sample, or full (infer: full; load and convert: sample, held against every record while writing)")
	})
}

// any reports whether something was said of columns.
func (f *correctionFlags) any(cmd *cobra.Command) bool {
	said := len(f.declared) > 0
	for _, name := range []string{"type", "rename", "only", "drop", "required", "key", "names", "nulls", "decimal-mark", "mixed"} {
		said = said || cmd.Flags().Changed(name)
	}
	return said
}

// corrections turns the flags into what flow wants.
func (f *correctionFlags) corrections() (schema.Corrections, error) {
	c := schema.Corrections{Types: map[string]schema.Stated{}, Renames: map[string]string{}, Only: f.only, Drop: f.drop, Required: f.required, Key: f.key,
		Nulls: f.nulls, Columns: f.declared}
	for _, text := range f.types {
		name, stated, err := parsePin(text)
		if err != nil {
			return c, err
		}
		c.Types[name] = stated
	}
	for _, text := range f.renames {
		at := strings.LastIndexByte(text, '=')
		if at < 1 || at == len(text)-1 {
			return c, fault.New(fault.Usage, "--rename %q does not name a column and its new name", text).Try("write it like --rename 'Wave height=wave_height_m'")
		}
		c.Renames[text[:at]] = text[at+1:]
	}
	var ok bool
	if c.Names, ok = schema.ParseNameStyle(f.names); !ok {
		return c, fault.New(fault.Usage, "--names %s is not known", f.names).Try("use safe, keep or snake")
	}
	if c.Outvote = f.mixed == "misfit"; !c.Outvote && f.mixed != "text" {
		return c, fault.New(fault.Usage, "--mixed %s is not known", f.mixed).Try("use text or misfit")
	}
	switch f.decimalMark {
	case "":
	case ",", "comma":
		c.DecimalMark = ","
	case ".", "point":
		c.DecimalMark = "."
	default:
		return c, fault.New(fault.Usage, "--decimal-mark %q is not known", f.decimalMark).Try("use comma or point, or the characters themselves")
	}
	return c, nil
}

// parsePin reads COL=TYPE. Both may hold equals signs, so the first split that leaves a type is taken.
func parsePin(text string) (string, schema.Stated, error) {
	var first error
	for at := 1; at < len(text); at++ {
		if text[at] != '=' {
			continue
		}
		stated, err := schema.ParseType(text[at+1:])
		if err == nil {
			return text[:at], stated, nil
		}
		if first == nil {
			first = err
		}
	}
	if first == nil {
		return "", schema.Stated{}, fault.New(fault.Usage, "--type %q does not name a column and a type", text).Try("write it like --type depth=double")
	}
	return "", schema.Stated{}, fault.New(fault.Usage, "--type: %s", first)
}

func (f *correctionFlags) scanned() (infer.Scan, error) {
	switch f.scan {
	case "":
		return infer.ScanUsual, nil
	case "sample":
		return infer.ScanSample, nil
	case "full":
		return infer.ScanFull, nil
	}
	return 0, fault.New(fault.Usage, "--scan %s is not known", f.scan).Try("use sample or full")
}
