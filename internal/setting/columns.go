package setting

import (
	"strings"

	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/schema"
)

// CorrectsColumns reports whether something was said of columns.
func (f *Flow) CorrectsColumns() bool {
	for _, name := range []string{"type", "rename", "only", "drop", "required", "key", "names", "nulls", "decimal-mark", "mixed"} {
		if f.Stated(name) {
			return true
		}
	}
	return false
}

// corrections are what is fixed of columns.
func (f *Flow) corrections(declared []schema.Field) (schema.Corrections, error) {
	c := schema.Corrections{Types: map[string]schema.Stated{}, Renames: map[string]string{}, Only: f.Only, Drop: f.Drop,
		Required: f.Required, Key: f.Key,
		Nulls: f.Nulls, Columns: declared}
	for _, text := range f.Types {
		name, stated, err := parsePin(text)
		if err != nil {
			return c, err
		}
		c.Types[name] = stated
	}
	for _, text := range f.Renames {
		at := strings.LastIndexByte(text, '=')
		if at < 1 || at == len(text)-1 {
			return c, fault.New(fault.Usage, "--rename %q does not name a column and its new name",
				text).Try("write it like --rename 'Wave height=wave_height_m'")
		}
		c.Renames[text[:at]] = text[at+1:]
	}
	var ok bool
	if c.Names, ok = schema.ParseNameStyle(f.Names); !ok {
		return c, fault.Unknown("names", f.Names, "safe", "keep", "snake")
	}
	if c.Outvote = f.Outvoted == "misfit"; !c.Outvote && f.Outvoted != "text" {
		return c, fault.Unknown("mixed", f.Outvoted, "text", "misfit")
	}
	switch f.DecimalMark {
	case "":
	case ",", "comma":
		c.DecimalMark = ","
	case ".", "point":
		c.DecimalMark = "."
	default:
		return c, fault.New(fault.Usage, "--decimal-mark %q is not known",
			f.DecimalMark).Try("use comma or point, or the characters themselves")
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
		return "", schema.Stated{}, fault.New(fault.Usage, "--type %q does not name a column and a type",
			text).Try("write it like --type depth=double")
	}
	return "", schema.Stated{}, fault.New(fault.Usage, "--type: %s", first)
}

// scanned is how much is looked at before types are settled.
func (f *Flow) scanned() (infer.Scan, error) {
	switch f.Scan {
	case "":
		return infer.ScanUsual, nil
	case "sample":
		return infer.ScanSample, nil
	case "full":
		return infer.ScanFull, nil
	}
	return 0, fault.Unknown("scan", f.Scan, "sample", "full")
}
