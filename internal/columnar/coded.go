package columnar

import (
	"slices"

	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/memory"
)

// translations turn the numbers of dictionaries that batches come with into those of the row group's dictionary. A value is looked up when its number
// first occurs; batches whose dictionaries are the same but for what was added at the end share that.
type translations struct {
	tables []translation
	fresh  []uint32 // memory for look
}

type translation struct {
	of      *byte // where the dictionary lies in memory
	entries []translated
}

// translated is what one number of a batch's dictionary stands for.
type translated struct {
	id   uint32 // in the row group's dictionary, plus one; 0 when it was not looked up yet
	page uint32 // the last page in which it occurred
}

// mostTranslations bounds how many dictionaries are remembered.
const mostTranslations = 16

// table returns the translation of an array's dictionary, which lies at a place in memory.
func (t *translations) table(of *byte, n int) []translated {
	for i := range t.tables {
		known := &t.tables[i]
		if known.of != of {
			continue
		}
		if missing := n - len(known.entries); missing > 0 {
			known.entries = append(known.entries, make([]translated, missing)...)
		}
		return known.entries
	}
	if len(t.tables) == mostTranslations {
		t.tables = append(t.tables[:0], t.tables[1:]...)
	}
	entries := memory.Table[translated](n)
	t.tables = append(t.tables, translation{of, entries})
	return entries
}

// look translates codes, and returns those that did not occur in the open page, each once, which counts as the first of its pages where it is new. Codes that are not
// known yet come out as none, until they are and lookAgain is called. Values that are rare turn up in no order that could be foreseen, so there is no branch for them.
func (t *translations) look(table []translated, codes, ids []uint32, page uint32) (fresh []uint32) {
	t.fresh = slices.Grow(t.fresh[:0], len(codes))
	fresh = t.fresh[:len(codes)]
	ids = ids[:len(codes)]
	n := 0
	for i, code := range codes {
		e := &table[code]
		fresh[n] = code
		other := e.page ^ page
		n += int((other | -other) >> 31)
		e.page = page
		ids[i] = e.id - 1
	}
	return fresh[:n]
}

// lookAgain translates codes that are all known by now.
func lookAgain(table []translated, codes, ids []uint32) {
	ids = ids[:len(codes)]
	for i, code := range codes {
		ids[i] = table[code].id - 1
	}
}

// codes returns the numbers of the values that are there.
func (l leaf) codes(d *array.Dictionary, scratch *[]uint32) []uint32 {
	return take(l, d.Indices().(*array.Uint32).Uint32Values(), scratch)
}

// addCoded is add for values that come with a dictionary.
func (f *fixed[T]) addCoded(d *array.Dictionary, l leaf) {
	codes, list := l.codes(d, &f.codes), stored[T](d.Dictionary())
	if len(codes) == 0 {
		return
	}
	if f.gone {
		f.scratch = f.scratch[:0]
		for _, code := range codes {
			f.scratch = append(f.scratch, list[code])
		}
		f.addPlain(f.scratch)
		return
	}
	table := f.known.table(&d.Dictionary().Data().Buffers()[1].Bytes()[0], len(list))
	first := len(f.ids)
	f.ids = room(f.ids, len(codes))[:first+len(codes)]
	ids := f.ids[first:]
	known := true
	for _, code := range f.known.look(table, codes, ids, f.pages) {
		known = f.meet(&table[code], list[code]) && known
	}
	if !known {
		lookAgain(table, codes, ids)
	}
	if f.odd {
		f.countNaNs(ids)
	}
	f.count += len(codes)
	f.judge()
}

// meet takes note of a value that occurs in the open page, and reports whether it was in the dictionary.
func (f *fixed[T]) meet(e *translated, v T) (known bool) {
	if known = e.id != 0; !known {
		e.id = f.dict.Number(v) + 1
		if f.floating {
			x := asFloat(v)
			f.odd = f.odd || x != x
		}
	}
	f.stretchOne(v)
	return known
}

// countNaNs counts the values among those of the ids that are not a number.
func (f *fixed[T]) countNaNs(ids []uint32) {
	for _, id := range ids {
		if x := asFloat(f.dict.Values[id]); x != x {
			f.nans++
		}
	}
}

// addCoded is add for texts that come with a dictionary.
func (t *texts) addCoded(d *array.Dictionary, l leaf) {
	values := d.Dictionary().(variable)
	data, offsets := values.ValueBytes(), values.ValueOffsets()
	codes := l.codes(d, &t.codes)
	if len(codes) == 0 {
		return
	}
	if t.gone {
		for _, code := range codes {
			t.one(data[offsets[code]:offsets[code+1]])
		}
		return
	}
	table := t.known.table(&d.Dictionary().Data().Buffers()[1].Bytes()[0], d.Dictionary().Len())
	first := len(t.ids)
	t.ids = room(t.ids, len(codes))[:first+len(codes)]
	ids := t.ids[first:]
	known := true
	for _, code := range t.known.look(table, codes, ids, t.pages) {
		known = t.meet(&table[code], data[offsets[code]:offsets[code+1]]) && known
	}
	if !known {
		lookAgain(table, codes, ids)
	}
	t.count += len(codes)
	t.judge()
}

// meet takes note of a text that occurs in the open page, and reports whether it was in the dictionary.
func (t *texts) meet(e *translated, text []byte) (known bool) {
	if known = e.id != 0; !known {
		e.id = t.dict.ID(text) + 1
		for len(t.seen) < int(e.id) {
			t.seen = append(t.seen, 0)
		}
	}
	t.seen[e.id-1] = t.pages
	t.stretch(text)
	return known
}
