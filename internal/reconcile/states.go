package reconcile

import (
	"context"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/prove"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// Compared is how two states of a table differ.
type Compared struct {
	Table         string
	Before, After table.Snapshot
	// RowsBefore and RowsAfter are how many rows there were and are; Open says that files of deletes of others leave one of them open.
	RowsBefore, RowsAfter int64
	Open                  bool
	// Added, Removed and Altered are rows. Without a Key a row that was altered is one removed and one added.
	Added, Removed, Altered int64
	Key                     []string
	// Files are those that the states do not share, and were read; Shared were passed over.
	Files, Shared int
	// Changes are what became of the columns, a sentence each.
	Changes  []string
	Examples []Example
	Seconds  float64
}

// States compares two states of a table: the rows in files that both have are the same, so only the others are read. key is how rows are
// told from each other, none for the key of the table or, where it has none, for all that they have.
func States(ctx context.Context, before, after *table.Table, key []string, examples int, b run.Budget) (*Compared, error) {
	started := time.Now()
	out := &Compared{Table: after.Name.String(), Changes: schema.Compare(before.Schema, after.Schema)}
	out.Before, _ = before.Current()
	out.After, _ = after.Current()
	was, known := before.Rows()
	is, too := after.Rows()
	out.RowsBefore, out.RowsAfter, out.Open = was, is, !known || !too
	left, right, shared, err := apart(ctx, before, after)
	if err != nil {
		return nil, err
	}
	out.Files, out.Shared = len(left)+len(right), shared
	r := prove.Request{Examples: examples, Workers: b.Workers}
	sides := [2]*scanned{}
	fields, names := united(before.Schema, after.Schema)
	r.Fields = fields
	if len(key) == 0 {
		key = after.Schema.Key
	}
	if len(key) == 0 {
		key = after.MergedBy()
	}
	if r.Key, err = keyPlaces(fields, key); err != nil {
		return nil, err
	}
	for _, at := range r.Key {
		out.Key = append(out.Key, fields[at].Name)
	}
	for i, t := range []*table.Table{before, after} {
		tasks := [][]table.ReadTask{left, right}[i]
		from, err := scan.OfFiles(ctx, t, tasks)
		if err != nil {
			return nil, err
		}
		sides[i] = &scanned{from: from, request: r, names: names[i], budget: b, within: storage.Path(t.Location())}
	}
	o, err := prove.Compare(ctx, sides[0], sides[1], r)
	if err != nil {
		return nil, err
	}
	out.Added, out.Removed, out.Altered = o.OnlyRight, o.OnlyLeft, o.Altered
	for _, e := range o.Examples {
		shown := Example{Example: e}
		if e.Left != nil {
			shown.Source = sides[0].place(*e.Left)
		}
		if e.Right != nil {
			shown.There = sides[1].place(*e.Right)
		}
		out.Examples = append(out.Examples, shown)
	}
	out.Seconds = time.Since(started).Seconds()
	return out, nil
}

// apart are the files that only one of two states has, or that have other deletes in them, and how many they share.
func apart(ctx context.Context, before, after *table.Table) (left, right []table.ReadTask, shared int, err error) {
	was, err := before.Plan(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	is, err := after.Plan(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	known := map[string]table.ReadTask{}
	for _, task := range was {
		known[task.URI] = task
	}
	same := map[string]bool{}
	for _, task := range is {
		if old, ok := known[task.URI]; ok && slices.EqualFunc(old.Deletes, task.Deletes,
			func(a, b table.Deletes) bool { return a.URI == b.URI }) {
			same[task.URI] = true
			continue
		}
		right = append(right, task)
	}
	for _, task := range was {
		if !same[task.URI] {
			left = append(left, task)
		}
	}
	return left, right, len(same), nil
}

// united are the columns of two schemas, told by their ids, as the later one has them, and what each of the two calls them.
func united(before, after schema.Schema) (fields []schema.Field, names [2][]string) {
	was, is := before.Bare().Fields, after.Bare().Fields
	find := func(list []schema.Field, id int) int {
		return slices.IndexFunc(list, func(f schema.Field) bool { return f.ID == id })
	}
	// No column has such a name.
	const none = "\x00none"
	for _, f := range is {
		name := none
		if at := find(was, f.ID); at >= 0 {
			name = was[at].Name
		}
		fields = append(fields, f)
		names[0], names[1] = append(names[0], name), append(names[1], f.Name)
	}
	for _, f := range was {
		if find(is, f.ID) < 0 {
			fields = append(fields, f)
			names[0], names[1] = append(names[0], f.Name), append(names[1], none)
		}
	}
	return fields, names
}

// keyPlaces are the places of the columns of a key, nil for none.
func keyPlaces(fields []schema.Field, key []string) (out []int, err error) {
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	for _, name := range key {
		at := slices.Index(names, name)
		if at < 0 {
			return nil, fault.New(fault.Usage, "there is no column %q for the key", name).Try("%s", schema.Choices(name, names))
		}
		out = append(out, at)
	}
	return out, nil
}
