package write

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/fault"
	"trevak/internal/fit"
	"trevak/internal/infer"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/shape"
	"trevak/internal/table"
)

// The columns that tell where a row came from: the object's location, the number of its record in the object (from 1; records that
// failed are counted too, repeated headers are not), and when the load began.
const (
	lineageFile = "_lineage_file"
	lineageRow  = "_lineage_row"
	loadedAt    = "_loaded_at"
	// rawRecord holds the record as it was read, as JSON.
	rawRecord = "_raw"
)

// OwnColumns are the columns that loads fill themselves, whether or not a run does.
var OwnColumns = []string{lineageFile, lineageRow, loadedAt, rawRecord, shape.ParentColumn, schema.MisfitColumn,
	table.OriginField.Name}

// MisfitExtra is the column for what fits no other: a JSON object of column and raw value; fields beyond the columns go by their
// position, c5 and so on.
var MisfitExtra = Extra{Field: schema.Field{Name: schema.MisfitColumn, Type: schema.Type{Kind: schema.String}, Pinned: true,
	Demand: schema.Demand{Added: true}}}

// Extra is a column that the run adds to those of the source.
type Extra struct {
	Field schema.Field
	// values is the column's text for each object; nil for a column that differs from row to row, or is the same everywhere.
	values []string
}

// Extras lists the columns that are asked for besides the source's own.
func Extras(d *infer.Data, t Task) ([]Extra, error) {
	out, err := pathColumns(d, t.PathColumns)
	if err != nil {
		return nil, err
	}
	for _, v := range t.PartitionValues {
		if slices.ContainsFunc(OwnColumns, func(own string) bool { return strings.EqualFold(own, v.Column) }) {
			return nil, fault.New(fault.Usage, "--partition-value names the column %s, which is filled by the program",
				v.Column).Try("choose another name")
		}
		e := Extra{Field: schema.Field{Name: v.Column, Demand: schema.Demand{Added: true},
			Type: schema.Type{Kind: KindOf([]string{v.Value})}}, values: make([]string, len(d.Inputs))}
		for i := range e.values {
			e.values[i] = v.Value
		}
		out = append(out, e)
	}
	if t.ParentID {
		out = append(out, Extra{Field: schema.Field{Name: shape.ParentColumn, Type: schema.Type{Kind: schema.String}, Pinned: true,
			Demand: schema.Demand{Added: true}}})
	}
	if t.KeepRaw {
		if d.Format().Columnar() {
			return nil, fault.New(fault.Usage, "--keep-raw is for records of text; columnar files have none").Try("leave it out")
		}
		out = append(out, Extra{Field: schema.Field{Name: rawRecord, Type: schema.Type{Kind: schema.String}, Pinned: true,
			Demand: schema.Demand{Added: true}}})
	}
	if !t.Lineage {
		return out, nil
	}
	file := Extra{Field: schema.Field{Name: lineageFile, Type: schema.Type{Kind: schema.String}, Pinned: true,
		Demand: schema.Demand{Added: true}}}
	for _, in := range d.Inputs {
		file.values = append(file.values, in.Location)
	}
	return append(out, file, Extra{Field: schema.Field{Name: lineageRow, Type: schema.Type{Kind: schema.Long}, Pinned: true,
		Demand: schema.Demand{Added: true}}},
		Extra{Field: schema.Field{Name: loadedAt, Type: schema.Type{Kind: schema.TimestampTz}, Pinned: true,
			Demand: schema.Demand{Added: true}}}), nil
}

// PartitionValue is a column that has one value for the whole run.
type PartitionValue struct{ Column, Value string }

// PartitionWith puts columns of one value before other partition fields, unless these name them already.
func (t Task) PartitionWith(fields string) string {
	var out []string
	for _, v := range t.PartitionValues {
		if !strings.Contains(fields, v.Column) {
			out = append(out, v.Column)
		}
	}
	if fields != "" {
		out = append(out, fields)
	}
	return strings.Join(out, ",")
}

var placeholder = regexp.MustCompile(`\{([^{}]+)\}`)

// pathColumns reads columns out of the locations by a template like year={year}/area={area}/.
func pathColumns(d *infer.Data, template string) ([]Extra, error) {
	if template == "" {
		return nil, nil
	}
	names := placeholder.FindAllStringSubmatch(template, -1)
	if len(names) == 0 {
		return nil, fault.New(fault.Usage, "--path-columns %q names no column", template).Try("write it like 'year={year}/area={area}/'")
	}
	var pattern strings.Builder
	last := 0
	for _, at := range placeholder.FindAllStringIndex(template, -1) {
		pattern.WriteString(regexp.QuoteMeta(template[last:at[0]]) + `([^/]+?)`)
		last = at[1]
	}
	pattern.WriteString(regexp.QuoteMeta(template[last:]))
	if strings.HasSuffix(template, "}") {
		pattern.WriteString(`(?:/|$)`)
	}
	matcher, err := regexp.Compile(`(?:^|/)` + pattern.String())
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "--path-columns %q cannot be read", template)
	}
	raw := make([]string, len(names))
	for i, name := range names {
		raw[i] = name[1]
	}
	out := make([]Extra, len(names))
	for i, name := range schema.SafeNames.Make(raw) {
		if slices.ContainsFunc(OwnColumns, func(own string) bool { return strings.EqualFold(own, name) }) {
			return nil, fault.New(fault.Usage, "--path-columns names the column %s, which is filled by the program",
				name).Try("choose another name")
		}
		out[i].Field = schema.Field{Name: name, Demand: schema.Demand{Added: true}}
	}
	for _, in := range d.Inputs {
		m := matcher.FindStringSubmatch(in.Location)
		if m == nil {
			return nil, fault.New(fault.Usage, "has no part like %q in its path, so --path-columns gives it no values",
				template).In(in.Location).
				Try("leave the file out, or write the template as its path is")
		}
		for i, value := range m[1:] {
			out[i].values = append(out[i].values, value)
		}
	}
	for i := range out {
		out[i].Field.Type.Kind = KindOf(out[i].values)
	}
	return out, nil
}

// KindOf returns the narrowest type of some texts.
func KindOf(values []string) schema.Kind {
	var seen schema.Class
	for _, v := range values {
		seen |= schema.Classify([]byte(v))
	}
	switch kind := schema.Resolve(seen); {
	case seen&schema.Word != 0, kind == schema.Decimal, kind == schema.Date && seen&schema.ClassDate == 0:
		return schema.String
	default:
		return kind
	}
}

// ownName refuses a column of the source that is called like one that this program fills: what is in the one would be taken for
// the other.
func ownName(name string) error {
	return fault.New(fault.Usage, "the source has a column %q, which is the name of a column that is filled by the program", name).
		Try("give it another name with --rename %s=NAME, or leave it out with --drop %s", name, name)
}

// SparesOwn refuses columns of a source that have names of columns which loads fill.
func SparesOwn(fields []schema.Field) error {
	for _, f := range fields {
		if !f.Added && slices.ContainsFunc(OwnColumns, func(own string) bool { return strings.EqualFold(own, f.Name) }) {
			return ownName(f.Name)
		}
	}
	return nil
}

// addExtras puts the extra columns behind those of the source.
func addExtras(s *schema.Schema, list []Extra) error {
	for _, e := range list {
		if slices.ContainsFunc(s.Fields, func(f schema.Field) bool { return strings.EqualFold(f.Name, e.Field.Name) }) {
			return ownName(e.Field.Name)
		}
		s.Fields = append(s.Fields, e.Field)
	}
	return nil
}

// filler puts the values of Extra columns into batches.
type filler struct {
	extras  []Extra
	columns []int // of the schema, for each Extra
	started time.Time
	longest map[string]int // of the texts, in characters
	// locations are those of the objects.
	locations []string
}

func newFiller(list []Extra, s schema.Schema, started time.Time) (*filler, error) {
	f := &filler{extras: list, started: started, longest: map[string]int{}}
	for _, e := range list {
		at := s.Index(e.Field.Name)
		if at < 0 {
			return nil, fault.New(fault.Schema, "the table has no column %q",
				e.Field.Name).Try("load into a table of its own, or leave --lineage or --path-columns out")
		}
		if s.Fields[at].Type.Kind != e.Field.Type.Kind {
			return nil, fault.New(fault.Schema, "column %q of the table is a %s, the values would be of type %s", e.Field.Name,
				s.Fields[at].Type, e.Field.Type)
		}
		f.columns = append(f.columns, at)
	}
	return f, nil
}

// fill replaces the extra columns of a batch, which are null so far. before is how many records of the object came before the
// batch's.
func (f *filler) fill(batch arrow.RecordBatch, object int, before int64, from *scan.Rows) (arrow.RecordBatch, error) {
	if len(f.extras) == 0 {
		return batch, nil
	}
	columns := slices.Clone(batch.Columns())
	rows := int(batch.NumRows())
	for i, e := range f.extras {
		switch {
		case e.values != nil:
			f.measure(e, e.values[object])
			values, ok := fit.Constant(e.Field, e.values[object], rows)
			if !ok {
				return nil, fmt.Errorf("%q is no %s for column %q", e.values[object], e.Field.Type, e.Field.Name)
			}
			columns[f.columns[i]] = values
		case e.Field.Name == schema.MisfitColumn:
			if from.Misfit != nil {
				columns[f.columns[i]] = texts(from.Misfit)
				f.measure(e, from.Misfit...)
			}
		case e.Field.Name == rawRecord:
			columns[f.columns[i]] = texts(from.Raws)
			f.measure(e, from.Raws...)
		case e.Field.Name == shape.ParentColumn:
			ids := make([]string, rows)
			for row := range ids {
				ids[row] = fmt.Sprintf("%s:%d", f.locations[object], before+from.Rank(row)+1)
			}
			columns[f.columns[i]] = texts(ids)
			f.measure(e, ids...)
		case e.Field.Name == loadedAt:
			columns[f.columns[i]] = longs(arrow.FixedWidthTypes.Timestamp_us, rows, func(int) int64 { return f.started.UnixMicro() })
		default:
			columns[f.columns[i]] = longs(arrow.PrimitiveTypes.Int64, rows, func(row int) int64 {
				return before + from.Rank(row) + 1
			})
		}
	}
	return array.NewRecordBatch(batch.Schema(), columns, batch.NumRows()), nil
}

// measure notes the lengths of texts.
func (f *filler) measure(e Extra, list ...string) {
	for _, text := range list {
		f.longest[e.Field.Name] = max(f.longest[e.Field.Name], utf8.RuneCountInString(text))
	}
}

// has reports whether a column of that name is filled.
func (f *filler) has(name string) bool {
	return slices.ContainsFunc(f.extras, func(e Extra) bool { return e.Field.Name == name })
}

// texts makes a column of strings, null where they are empty.
func texts(values []string) arrow.Array {
	b := array.NewStringBuilder(memory.DefaultAllocator)
	for _, v := range values {
		if v == "" {
			b.AppendNull()
		} else {
			b.Append(v)
		}
	}
	return b.NewArray()
}

// longs makes a column of 64-bit values without nulls.
func longs(dt arrow.DataType, n int, value func(int) int64) arrow.Array {
	values := make([]int64, n)
	for i := range values {
		values[i] = value(i)
	}
	return array.MakeFromData(array.NewData(dt, n, []*memory.Buffer{nil, memory.NewBufferBytes(arrow.Int64Traits.CastToBytes(values))},
		nil, 0, 0))
}
