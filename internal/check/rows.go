package check

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/rowhash"
	"trevak/internal/rowtext"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// Rows are rules that a row keeps or breaks by itself, for rows with the columns of a schema. It may be used by several at once.
type Rows struct {
	Rules  []Rule
	fields []schema.Field
	breaks []*expr.Expression // of each rule, nil for a reference
	keys   []keySet
	column []int // of a reference, in the rows
}

// ForRows prepares the rules of a list that a row keeps or breaks by itself; tables finds the tables that they refer to.
func ForRows(ctx context.Context, rules []Rule, s schema.Schema, tables func(context.Context, table.Name) (*table.Table, error)) (*Rows,
	error) {
	out := &Rows{fields: s.Bare().Fields}
	for _, r := range rules {
		breaks, err := r.condition(s)
		if err != nil {
			return nil, err
		}
		if r.Unique != nil {
			continue
		}
		var keys keySet
		column := -1
		if r.Of != nil {
			of, err := tables(ctx, *r.Of)
			if err != nil {
				return nil, err
			}
			column = s.Index(r.Column)
			if keys, err = keysOf(ctx, of, r.In, s.Fields[column]); err != nil {
				return nil, err
			}
		}
		out.Rules, out.breaks = append(out.Rules, r), append(out.breaks, breaks)
		out.keys, out.column = append(out.keys, keys), append(out.column, column)
	}
	return out, nil
}

// Broken returns for each rule the rows of a batch that break it, in order.
func (r *Rows) Broken(b arrow.RecordBatch) ([][]int32, error) {
	out := make([][]int32, len(r.Rules))
	for i := range r.Rules {
		if r.breaks[i] == nil {
			out[i] = r.keys[i].missing(b, r.column[i])
			continue
		}
		rows, err := r.breaks[i].Rows(b.Columns()[:len(r.fields)], int(b.NumRows()))
		if err != nil {
			return nil, fault.Wrap(fault.Input, err, "the check %s", fault.Quote(r.Rules[i].Text))
		}
		out[i] = rows
	}
	return out, nil
}

// Values writes the values of the columns that a rule speaks of.
func (r *Rows) Values(rule int, b arrow.RecordBatch, row int) string {
	return ValuesOf(r.Rules[rule].Columns(schema.Schema{Fields: r.fields}), r.fields, b, row)
}

// ValuesOf writes the values of some columns of a row.
func ValuesOf(names []string, fields []schema.Field, b arrow.RecordBatch, row int) string {
	var text []byte
	for i, f := range fields {
		if !slices.Contains(names, f.Name) || i >= int(b.NumCols()) {
			continue
		}
		if text != nil {
			text = append(text, ", "...)
		}
		if text = append(append(text, f.Name...), ' '); b.Column(i).IsNull(row) {
			text = append(text, "null"...)
			continue
		}
		text = append(text, fault.Quote(string(rowtext.AppendText(nil, b.Column(i), row)))...)
	}
	return string(text)
}

// keySet is the values of a column, by their hashes.
type keySet struct{ keys []rowhash.Key }

// mostKeys bounds how many different values a column may have that is referred to.
const mostKeys = 16 << 20

// keysOf reads the values of a column of a table, as a column that refers to it has them.
func keysOf(ctx context.Context, t *table.Table, column string, as schema.Field) (keySet, error) {
	at := t.Schema.Index(column)
	if at < 0 {
		var names []string
		for _, f := range t.Schema.Fields {
			names = append(names, f.Name)
		}
		return keySet{}, fault.New(fault.Usage, "the table %s has no column %q to refer to", t.Name, column).
			Try("%s", schema.Choices(column, names))
	}
	field := t.Schema.Bare().Fields[at]
	if field.Type.Kind != as.Type.Kind && !(numeric(field.Type) && numeric(as.Type)) {
		return keySet{}, fault.New(fault.Usage, "column %q is %s, and %s of %s, which it refers to, is %s", as.Name, as.Type, column, t.Name,
			field.Type).Try("state one type for both")
	}
	field.Type = as.Type
	from, err := scan.OfTable(ctx, t)
	if err != nil {
		return keySet{}, err
	}
	var out keySet
	var batch []rowhash.Key
	target := scan.Target{Schema: schema.Schema{Fields: []schema.Field{field}, Omission: schema.Omission{OmitRest: true}}, Fixed: true}
	err = from.Read(ctx, scan.Request{Target: target}, func(r *scan.Rows) error {
		batch = rowhash.Keys(r.Batch, []int{0}, batch)
		for i, k := range batch {
			if r.Batch.Column(0).IsValid(i) {
				out.keys = append(out.keys, k)
			}
		}
		if len(out.keys) > 2*mostKeys {
			out.compact()
		}
		if len(out.keys) > 2*mostKeys-mostKeys/2 {
			return fault.New(fault.Usage, "column %q of %s has more than %d different values, too many to refer to", column, t.Name, mostKeys).
				Try("leave the check out, and compare the tables")
		}
		return nil
	})
	out.compact()
	return out, err
}

func numeric(t schema.Type) bool { return t.Kind == schema.Int || t.Kind == schema.Long }

// compact puts the keys in order, each once.
func (k *keySet) compact() {
	slices.SortFunc(k.keys, compareKeys)
	k.keys = slices.Compact(k.keys)
}

func compareKeys(a, b rowhash.Key) int {
	switch {
	case a.High != b.High:
		if a.High < b.High {
			return -1
		}
		return 1
	case a.Low < b.Low:
		return -1
	case a.Low > b.Low:
		return 1
	}
	return 0
}

// missing are the rows of a batch whose value in a column is none of the set. Nulls refer to nothing.
func (k keySet) missing(b arrow.RecordBatch, column int) (out []int32) {
	for i, key := range rowhash.Keys(b, []int{column}, nil) {
		if b.Column(column).IsNull(i) {
			continue
		}
		if _, ok := slices.BinarySearchFunc(k.keys, key, compareKeys); !ok {
			out = append(out, int32(i))
		}
	}
	return out
}
