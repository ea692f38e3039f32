package table

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// Alteration is what is to change of a table besides its columns. What is nil stays.
type Alteration struct {
	// Columns makes the schema of the table's own, with a sentence for each change.
	Columns func(*Table) (schema.Schema, []string, error)
	// Partition and Sort are how files to come are laid out, in the words of the command line; empty for nothing of the kind.
	Partition, Sort *string
	// Key is the columns that tell rows from each other; none for no key.
	Key *[]string
	// Format is that of files to come.
	Format *columnar.Format
	// Checks makes the rules that the table's rows must keep, with a sentence for each change.
	Checks func(t *Table, then schema.Schema) ([]string, []string, error)
	// Properties are set, and Unset are removed.
	Properties map[string]string
	Unset      []string
}

// Empty reports whether nothing is to change.
func (a Alteration) Empty() bool {
	return a.Columns == nil && a.Checks == nil && a.Partition == nil && a.Sort == nil && a.Key == nil && a.Format == nil &&
		len(a.Properties)+len(a.Unset) == 0
}

// Alter changes a table without touching its files, and returns a sentence for each change; without any, nothing is changed. A dry run
// returns them alone.
func (w *Warehouse) Alter(ctx context.Context, name Name, a Alteration, dry bool) ([]string, error) {
	for {
		t, err := w.Find(ctx, name)
		if err != nil {
			return nil, err
		}
		c, changes, err := a.change(ctx, t)
		if err != nil || dry || len(changes) == 0 {
			return changes, err
		}
		if _, err = w.Commit(ctx, name, "", c); !isAltered(err) {
			return changes, err
		}
	}
}

// errAltered says that the table is another than the change was made for.
var errAltered = fault.New(fault.Conflict, "the table was changed meanwhile")

// isAltered reports whether a change has to be made anew on the table as it is.
func isAltered(err error) bool { return errors.Is(err, errAltered) }

// change makes the change of a table as it is.
func (a Alteration) change(ctx context.Context, t *Table) (c Change, changes []string, err error) {
	c = Change{Quiet: true, Cause: alteredCause, Properties: map[string]string{}, Unset: a.Unset}
	s := t.Schema
	if a.Columns != nil {
		if s, changes, err = a.Columns(t); err != nil {
			return c, nil, err
		}
	}
	if s, err = a.withKey(ctx, t, s, &changes); err != nil {
		return c, nil, err
	}
	c.Schema = func(*Table) (schema.Schema, []string, error) { return s, changes, nil }
	// What was found of the table has to be so still when it is changed.
	c.Check = func(now *Table) error {
		if now.table.MetadataLocation() != t.table.MetadataLocation() {
			return errAltered
		}
		return nil
	}
	if err := a.layout(t, s, &c, &changes); err != nil {
		return c, nil, err
	}
	a.properties(t, &c, &changes)
	if a.Checks != nil {
		rules, told, err := a.Checks(t, s)
		if err != nil {
			return c, nil, err
		}
		if len(told) > 0 {
			key, value := ChecksProperty(rules)
			c.Properties[key] = value
			changes = append(changes, told...)
		}
	}
	return c, changes, nil
}

// layout changes how files to come are laid out.
func (a Alteration) layout(t *Table, s schema.Schema, c *Change, changes *[]string) error {
	told := func(what, was, is string) {
		*changes = append(*changes, "files to come are "+what+" "+orNone(is)+" instead of "+orNone(was))
	}
	if a.Partition != nil {
		var spec layout.Spec
		var err error
		if *a.Partition != "" {
			if spec, err = layout.ParseSpec(*a.Partition, s); err != nil {
				return err
			}
		}
		if spec.String() != t.Spec.String() {
			c.Layout.Spec = &spec
			told("partitioned by", t.Spec.String(), spec.String())
		}
	}
	if a.Sort != nil {
		sort, err := layout.ParseSort(*a.Sort, s)
		if err != nil {
			return err
		}
		if sort.String() != t.Sort.String() {
			c.Layout.Sort = &sort
			told("sorted by", t.Sort.String(), sort.String())
		}
	}
	if a.Format != nil && *a.Format != t.Format {
		key, value := FormatProperty(*a.Format)
		c.Properties[key] = value
		*changes = append(*changes, "files to come are "+value+" instead of "+formatName(t.Format))
	}
	return nil
}

func orNone(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// properties sets and removes properties.
func (a Alteration) properties(t *Table, c *Change, changes *[]string) {
	now := t.Properties()
	for _, key := range slices.Sorted(maps.Keys(a.Properties)) {
		if value, ok := now[key]; !ok || value != a.Properties[key] {
			c.Properties[key] = a.Properties[key]
			*changes = append(*changes, "property "+key+" is "+a.Properties[key])
		}
	}
	c.Unset = nil
	for _, key := range a.Unset {
		if _, ok := now[key]; ok {
			c.Unset = append(c.Unset, key)
			*changes = append(*changes, "property "+key+" is gone")
		}
	}
}

// withKey gives a schema another key, whose columns are required from then on. That all rows have values there has to be known.
func (a Alteration) withKey(ctx context.Context, t *Table, s schema.Schema, changes *[]string) (schema.Schema, error) {
	if a.Key == nil {
		return s, nil
	}
	s = s.Clone()
	var key []string
	for _, name := range *a.Key {
		f, err := layout.Column(s, name)
		if err != nil {
			return s, err
		}
		if f.Type.Nested() || f.Type.Kind == schema.Float || f.Type.Kind == schema.Double {
			return s, fault.New(fault.Usage, "column %q is %s, which the table format does not take for a key", f.Name, f.Type).
				Try("name columns of whole numbers, text, dates or times")
		}
		if !f.Required {
			if err := t.allHave(ctx, *f); err != nil {
				return s, err
			}
			f.Required = true
			*changes = append(*changes, "column "+f.Name+" is required")
		}
		key = append(key, f.Name)
	}
	if slices.Equal(key, s.Key) {
		return s, nil
	}
	*changes = append(*changes, "the key is "+orNone(strings.Join(key, ", "))+" instead of "+orNone(strings.Join(s.Key, ", ")))
	s.Key = key
	return s, nil
}

// allHave returns an error where it is not known of every data file that all its rows have a value in a column.
func (t *Table) allHave(ctx context.Context, f schema.Field) error {
	files, err := t.AllFiles(ctx)
	if err != nil {
		return err
	}
	for _, file := range files {
		if file.Deletes() {
			continue
		}
		nulls, counted := file.Nulls[f.ID]
		if _, has := file.Values[f.ID]; !counted || !has || nulls > 0 {
			return fault.New(fault.Schema, "column %q may be without a value in rows of %s, and a key has one in each", f.Name, t.Name).
				Try("delete those rows first, as by the condition %s IS NULL, and have the files written anew; or choose another key", f.Name)
		}
	}
	return nil
}
