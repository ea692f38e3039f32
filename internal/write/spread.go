package write

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/mask"
	"trevak/internal/schema"
)

// Spread is how many rows of a column that is not nested have a value and how many do not, and which texts it has, where they are few.
type Spread struct {
	Path          string
	Values, Nulls int64
	// Few says that Texts are all that there are, in order.
	Few   bool
	Texts []string
}

// fewTexts is up to how many different texts of a column are kept.
const fewTexts = 50

// spreads counts for all columns. It takes next to no time: texts that have numbers are told by these, and where there are many of them
// nobody looks at them any more.
type spreads struct {
	columns []Spread
	at      []int // the columns of batches
	texts   []map[string]bool
	seen    []bool // of the dictionary at hand
}

func newSpreads(s schema.Schema, m mask.Mask) *spreads {
	out := &spreads{}
	for i, f := range s.Fields {
		if f.Type.Nested() {
			continue
		}
		out.columns, out.at = append(out.columns, Spread{Path: f.Name}), append(out.at, i)
		var texts map[string]bool
		if f.Type.Kind == schema.String && !m.Hides(f.Name) && !m.Hides(f.Source()) {
			texts = map[string]bool{}
		}
		out.texts = append(out.texts, texts)
	}
	return out
}

// add counts the rows of a batch, whose first columns are those of the schema.
func (s *spreads) add(b arrow.RecordBatch) {
	for i, at := range s.at {
		if at >= int(b.NumCols()) {
			continue
		}
		column := b.Column(at)
		s.columns[i].Nulls += int64(column.NullN())
		s.columns[i].Values += int64(column.Len() - column.NullN())
		if s.texts[i] != nil && !s.note(s.texts[i], column) {
			s.texts[i] = nil
		}
	}
}

// note notes the texts of a column; false says that there are too many.
func (s *spreads) note(texts map[string]bool, column arrow.Array) bool {
	switch column := column.(type) {
	case *array.String:
		for row := range column.Len() {
			if column.IsValid(row) && !add(texts, column.Value(row)) {
				return false
			}
		}
	case *array.Dictionary:
		words, ok := column.Dictionary().(*array.String)
		if !ok {
			return false
		}
		s.seen = slices.Grow(s.seen[:0], words.Len())[:words.Len()]
		clear(s.seen)
		for row := range column.Len() {
			if column.IsNull(row) {
				continue
			}
			if at := column.GetValueIndex(row); !s.seen[at] {
				if s.seen[at] = true; words.IsValid(at) && !add(texts, words.Value(at)) {
					return false
				}
			}
		}
	default:
		return false
	}
	return true
}

// add adds a text; false says that there are too many.
func add(texts map[string]bool, text string) bool {
	if !texts[text] {
		if len(texts) == fewTexts {
			return false
		}
		texts[string([]byte(text))] = true // the memory of a batch is not ours
	}
	return true
}

// list is what was counted.
func (s *spreads) list() []Spread {
	for i := range s.columns {
		if s.columns[i].Few = s.texts[i] != nil; s.columns[i].Few {
			s.columns[i].Texts = SortedKeys(s.texts[i])
		}
	}
	return s.columns
}
