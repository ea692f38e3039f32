// Package profile tells how the values of columns are distributed: their commonest texts, and how many numbers and times lie where.
//
// What comes in are Arrow record batches of one schema, in order; what goes out is a description of each leaf column. What is kept
// does not grow with the rows.
package profile

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/mask"
	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// Column is how the values of a leaf column are distributed.
type Column struct {
	// Path is that of the column, ID its field id.
	Path string
	ID   int
	Type schema.Type
	// Values counts those that are not null, Nulls the others, of the rows or of the elements that the column is a part of.
	Values, Nulls int64
	// Longest is the length of the longest text, in characters.
	Longest int
	// Common are the commonest texts, the first one most often there; All says that they are all that there are. Other texts, and
	// counts too low by at most Unseen, may be missing otherwise.
	Common []Common
	All    bool
	Unseen int64
	// Bins are how numbers and times are spread, from the smallest to the largest; none for other types.
	Bins []Bin
	// Bytes and RawBytes are what the column takes in files, compressed and before; 0 where nothing was written.
	Bytes, RawBytes int64
}

// Masked is columns without the values of those that are not told.
func Masked(m mask.Mask, columns []Column) []Column {
	for i := range columns {
		if c := &columns[i]; m.Hides(c.Path) {
			c.Common, c.All, c.Bins = nil, false, nil
		}
	}
	return columns
}

// Common is a text and how often it is there.
type Common struct {
	Text  string
	Count int64
}

// Bin is how many values lie from From up to, but not including, To; the last one includes it. Both are texts of the column's type.
type Bin struct {
	From, To string
	Count    int64
}

// Rows gathers the distribution of all columns. It is not safe for concurrent use.
type Rows struct {
	leaves []*leaf
	fields []schema.Field
	text   []byte
}

// leaf is one leaf column that is gathered.
type leaf struct {
	column Column
	texts  tally
	spread *spread // nil for columns of no numbers and times
}

// New begins to gather rows of a schema.
func New(s schema.Schema) *Rows {
	r := &Rows{fields: s.Fields}
	s.Walk(func(path string, f *schema.Field) {
		if f.Type.Nested() {
			return
		}
		l := &leaf{column: Column{Path: path, ID: f.ID, Type: f.Type}, texts: tally{counts: map[string]*counter{}}}
		if f.Type.Kind >= schema.Int && f.Type.Kind <= schema.TimestampTzNs {
			l.spread = &spread{whole: f.Type.Kind != schema.Float && f.Type.Kind != schema.Double && f.Type.Kind != schema.Decimal}
		}
		r.leaves = append(r.leaves, l)
	})
	return r
}

// Add takes the rows of a batch, whose columns are those of the schema.
func (r *Rows) Add(batch arrow.RecordBatch) {
	at := 0
	for i, f := range r.fields {
		if i < int(batch.NumCols()) {
			r.column(f, batch.Column(i), 0, batch.Column(i).Len(), &at)
		}
	}
}

// column takes the values of a column from one position to another; at is which leaf comes next.
func (r *Rows) column(f schema.Field, a arrow.Array, from, to int, at *int) {
	if e, ok := a.(array.ExtensionArray); ok {
		a = e.Storage()
	}
	switch a := a.(type) {
	case *array.Struct:
		r.members(f.Type.Fields, a, from, to, at)
		return
	case *array.Map:
		start, end := elements(a, from, to)
		r.column(*f.Type.Key, a.Keys(), start, end, at)
		r.column(*f.Type.Element, a.Items(), start, end, at)
		return
	case *array.List:
		start, end := elements(a, from, to)
		r.column(*f.Type.Element, a.ListValues(), start, end, at)
		return
	}
	l := r.leaves[*at]
	*at++
	for row := from; row < to; row++ {
		if a.IsNull(row) {
			l.column.Nulls++
			continue
		}
		r.text = rowtext.AppendText(r.text[:0], a, row)
		l.add(r.text)
		if l.spread != nil {
			if v, ok := number(a, row); ok {
				l.spread.add(v)
			}
		}
	}
}

// members takes the members of objects, as far as these are there.
func (r *Rows) members(fields []schema.Field, a *array.Struct, from, to int, at *int) {
	first := *at
	for begun := false; !begun || from < to; begun = true {
		for from < to && a.IsNull(from) {
			from++
		}
		end := from
		for end < to && (a.NullN() == 0 || a.IsValid(end)) {
			end++
		}
		*at = first
		for i, part := range fields {
			r.column(part, a.Field(i), from, end, at)
		}
		from = end
	}
}

// elements returns where the elements of some lists begin and end.
func elements(a interface {
	ValueOffsets(i int) (start, end int64)
}, from, to int) (start, end int) {
	if from >= to {
		return 0, 0
	}
	first, _ := a.ValueOffsets(from)
	_, last := a.ValueOffsets(to - 1)
	return int(first), int(last)
}

// longestText is how many bytes of a text are kept.
const longestText = 120

func (l *leaf) add(text []byte) {
	l.column.Values++
	if kind := l.column.Type.Kind; kind == schema.String || kind == schema.Binary {
		l.column.Longest = max(l.column.Longest, utf8.RuneCount(text))
	}
	if len(text) > longestText {
		end := longestText
		for end > 0 && !utf8.RuneStart(text[end]) {
			end--
		}
		text = append(text[:end:end], "…"...)
	}
	l.texts.add(text)
}

// mostCommon is how many texts of a column are told.
const mostCommon = 8

// Columns describes what was gathered so far.
func (r *Rows) Columns() []Column {
	out := make([]Column, len(r.leaves))
	for i, l := range r.leaves {
		c := l.column
		c.Common, c.All, c.Unseen = l.texts.commonest(mostCommon)
		if l.spread != nil {
			c.Bins = l.spread.bins(c.Type)
		}
		out[i] = c
	}
	return out
}

// tally counts texts, of which the rare ones may be forgotten where there are very many (lossy counting, after Manku and Motwani,
// 2002).
type tally struct {
	counts map[string]*counter
	added  int64
	round  int64
	lost   bool
}

// counter is how often a text was there since it was first counted, and how often it may have been before at most.
type counter struct{ count, missed int64 }

// roundLength is after how many texts those are forgotten that are rare: no count is too low by more than a part of so many.
const roundLength = 4096

func (t *tally) add(text []byte) {
	if c := t.counts[string(text)]; c != nil {
		c.count++
	} else {
		t.counts[string(text)] = &counter{1, t.round}
	}
	if t.added++; t.added%roundLength != 0 || len(t.counts) < roundLength/2 {
		return
	}
	t.round = t.added / roundLength
	for text, c := range t.counts {
		if c.count+c.missed <= t.round {
			delete(t.counts, text)
			t.lost = true
		}
	}
}

// commonest returns the texts that are there most often, whether these are all, and how often a text may be there that is not among
// them for having been forgotten.
func (t *tally) commonest(most int) (out []Common, all bool, unseen int64) {
	for text, c := range t.counts {
		out = append(out, Common{text, c.count})
	}
	slices.SortFunc(out, func(a, b Common) int {
		if a.Count != b.Count {
			return int(b.Count - a.Count)
		}
		return strings.Compare(a.Text, b.Text)
	})
	all = !t.lost && len(out) <= most
	if t.lost {
		unseen = t.round
	}
	return out[:min(most, len(out))], all, unseen
}
