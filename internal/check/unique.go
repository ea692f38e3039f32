package check

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/rowhash"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// Result is what a rule came to.
type Result struct {
	Rule
	// Broken is how many rows break it, and Examples are some of them.
	Broken   int64
	Examples []Example
}

// Example is a row that breaks a rule: its place, and the values that the rule speaks of.
type Example struct{ Place, Values string }

// mostExamples is how many rows are shown that break a rule.
const mostExamples = 5

// Add counts a row that breaks the rule.
func (r *Result) Add(n int64, place, values func() string) {
	if r.Broken += n; len(r.Examples) < mostExamples {
		r.Examples = append(r.Examples, Example{place(), values()})
	}
}

// keyed is rows of which the columns of a key are read, again and again.
type keyed interface {
	// read hands over batches of these columns, with what tells the place of a row.
	read(ctx context.Context, visit func(b arrow.RecordBatch, place func(row int) string) error) error
}

// Files are data files that are to become part of a table, with all of its columns.
type Files struct {
	Store  storage.Store
	URIs   []string
	Schema schema.Schema
}

// Unique counts the rows of files whose key another row of them has, or a row of a table. gone are rows of the table, by file and position
// in order, that it is not to have any more; the table is nil for none, and tasks are the files of it that stay.
func Unique(ctx context.Context, r Rule, f Files, t *table.Table, tasks []table.ReadTask, gone map[string][]int64) (Result, error) {
	fields, err := keyFields(r, f.Schema)
	if err != nil {
		return Result{}, err
	}
	u := uniqueness{out: Result{Rule: r}, fields: fields, rows: &fileKeys{Files: f, fields: fields}}
	if t != nil && len(tasks) > 0 {
		others, err := tableKeysOf(ctx, t, tasks, fields)
		if err != nil {
			return Result{}, err
		}
		others.gone = gone
		u.others = others
	}
	err = u.run(ctx)
	return u.out, err
}

// UniqueIn counts the rows of a table whose key another row has.
func UniqueIn(ctx context.Context, r Rule, t *table.Table) (Result, error) {
	fields, err := keyFields(r, t.Schema)
	if err != nil {
		return Result{}, err
	}
	tasks, err := t.Plan(ctx)
	if err != nil {
		return Result{}, err
	}
	rows, err := tableKeysOf(ctx, t, tasks, fields)
	if err != nil {
		return Result{}, err
	}
	u := uniqueness{out: Result{Rule: r}, fields: fields, rows: rows}
	err = u.run(ctx)
	return u.out, err
}

func keyFields(r Rule, s schema.Schema) (out []schema.Field, err error) {
	if err := r.Fits(s); err != nil {
		return nil, err
	}
	bare := s.Bare()
	for _, name := range r.Unique {
		f := bare.Fields[s.Index(name)]
		f.Required = false
		out = append(out, f)
	}
	return out, nil
}

// fileKeys reads the key in data files.
type fileKeys struct {
	Files
	fields []schema.Field
}

func (k *fileKeys) read(ctx context.Context, visit func(arrow.RecordBatch, func(int) string) error) error {
	for _, uri := range k.URIs {
		if err := k.file(ctx, uri, visit); err != nil {
			return err
		}
	}
	return nil
}

func (k *fileKeys) file(ctx context.Context, uri string, visit func(arrow.RecordBatch, func(int) string) error) error {
	f, err := columnar.Open(ctx, k.Store, uri)
	if err != nil {
		return err
	}
	defer f.Close()
	var columns []int
	for _, field := range k.fields {
		columns = append(columns, f.Schema.Index(field.Name))
	}
	return f.Select(ctx, columnar.Selection{Columns: columns}, func(b arrow.RecordBatch, first int64) error {
		return visit(b, func(row int) string { return fmt.Sprintf("%s row %d", uri, first+int64(row)+1) })
	})
}

// tableKeys reads the key in files of a table, but for rows that are gone.
type tableKeys struct {
	from   scan.Source
	fields []schema.Field
	gone   map[string][]int64
}

func tableKeysOf(ctx context.Context, t *table.Table, tasks []table.ReadTask, fields []schema.Field) (*tableKeys, error) {
	from, err := scan.OfFiles(ctx, t, tasks)
	return &tableKeys{from: from, fields: fields}, err
}

func (k *tableKeys) read(ctx context.Context, visit func(arrow.RecordBatch, func(int) string) error) error {
	target := scan.Target{Schema: schema.Schema{Fields: k.fields, Omission: schema.Omission{OmitRest: true}}, Fixed: true}
	return k.from.Read(ctx, scan.Request{Target: target, Ranks: true}, func(r *scan.Rows) error {
		uri := k.from.Objects()[r.Block.Object].Location
		gone := k.gone[uri]
		return visit(r.Batch, func(row int) string {
			position := r.Before + r.Rank(row)
			if _, is := slices.BinarySearch(gone, position); is {
				return ""
			}
			return fmt.Sprintf("%s row %d", uri, position+1)
		})
	})
}

// uniqueness looks for keys that rows share.
type uniqueness struct {
	out    Result
	fields []schema.Field
	rows   keyed
	others keyed // nil for none
	shown  map[rowhash.Key]bool
}

// Keys are divided into buckets, of which so many are looked at together that no more than heldKeys wait at a time.
const (
	keyBits  = 12
	heldKeys = 4 << 20
)

func (u *uniqueness) run(ctx context.Context) error {
	u.shown = map[rowhash.Key]bool{}
	counts := make([]int, 1<<keyBits)
	if err := u.each(ctx, u.rows, func(k rowhash.Key, _ func() string, _ func() string) error {
		counts[k.High>>(64-keyBits)]++
		return nil
	}); err != nil {
		return err
	}
	for from := 0; from < len(counts); {
		to, n := from, 0
		for to < len(counts) && (to == from || n+counts[to] <= heldKeys) {
			n += counts[to]
			to++
		}
		if n > 0 {
			if err := u.part(ctx, from, to, n); err != nil {
				return err
			}
		}
		from = to
	}
	return u.show(ctx)
}

// part looks for keys in some buckets that rows share.
func (u *uniqueness) part(ctx context.Context, from, to, n int) error {
	in := func(k rowhash.Key) bool {
		at := int(k.High >> (64 - keyBits))
		return at >= from && at < to
	}
	keys := make([]rowhash.Key, 0, n)
	if err := u.each(ctx, u.rows, func(k rowhash.Key, _ func() string, _ func() string) error {
		if in(k) {
			keys = append(keys, k)
		}
		return nil
	}); err != nil {
		return err
	}
	slices.SortFunc(keys, compareKeys)
	for i := 1; i < len(keys); i++ {
		if keys[i] == keys[i-1] {
			u.found(keys[i])
		}
	}
	if u.others == nil {
		return nil
	}
	keys = slices.Compact(keys)
	met := make([]bool, len(keys))
	return u.each(ctx, u.others, func(k rowhash.Key, place func() string, _ func() string) error {
		if !in(k) {
			return nil
		}
		at, ok := slices.BinarySearchFunc(keys, k, compareKeys)
		if ok && !met[at] && place() != "" {
			met[at] = true
			u.found(k)
		}
		return nil
	})
}

func (u *uniqueness) found(k rowhash.Key) {
	if u.out.Broken++; len(u.shown) < mostExamples {
		u.shown[k] = true
	}
}

// each hands over the key of each row that has one.
func (u *uniqueness) each(ctx context.Context, of keyed, visit func(k rowhash.Key, place, values func() string) error) error {
	columns := make([]int, len(u.fields))
	var names []string
	for i, f := range u.fields {
		columns[i] = i
		names = append(names, f.Name)
	}
	var keys []rowhash.Key
	return of.read(ctx, func(b arrow.RecordBatch, place func(int) string) error {
		keys = rowhash.Keys(b, columns, keys)
		for row, k := range keys {
			if slices.ContainsFunc(columns, func(c int) bool { return b.Column(c).IsNull(row) }) {
				continue
			}
			if err := visit(k, func() string { return place(row) },
				func() string { return ValuesOf(names, u.fields, b, row) }); err != nil {
				return err
			}
		}
		return ctx.Err()
	})
}

// show finds the places of some rows that share their key.
func (u *uniqueness) show(ctx context.Context) error {
	if len(u.shown) == 0 {
		return nil
	}
	places := map[rowhash.Key][]string{}
	values := map[rowhash.Key]string{}
	var order []rowhash.Key
	for _, of := range []keyed{u.rows, u.others} {
		if of == nil {
			continue
		}
		if err := u.each(ctx, of, func(k rowhash.Key, place, value func() string) error {
			if !u.shown[k] || len(places[k]) == 2 {
				return nil
			}
			at := place()
			if at == "" {
				return nil
			}
			if places[k] == nil {
				order = append(order, k)
				values[k] = value()
			}
			places[k] = append(places[k], at)
			return nil
		}); err != nil {
			return err
		}
	}
	for _, k := range order {
		u.out.Examples = append(u.out.Examples, Example{joined(places[k]), values[k]})
	}
	slices.SortStableFunc(u.out.Examples, func(a, b Example) int { return cmp.Compare(a.Place, b.Place) })
	return nil
}

func joined(places []string) string {
	if len(places) < 2 {
		return places[0]
	}
	return places[0] + " and " + places[1]
}
