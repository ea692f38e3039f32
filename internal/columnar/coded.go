package columnar

import "github.com/apache/arrow-go/v18/arrow/array"

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
	in := f.known.table(&d.Dictionary().Data().Buffers()[1].Bytes()[0], len(list))
	first := len(f.ids)
	f.ids = room(f.ids, len(codes))[:first+len(codes)]
	ids := f.ids[first:]
	fresh := f.known.look(in, codes, ids, f.pages)
	if f.meet(in, fresh, list) {
		lookAgain(in.entries, codes, ids)
	}
	if f.odd {
		f.countNaNs(ids)
	}
	f.dict.Repeated += repeats(ids)
	f.count += len(codes)
	f.judge()
}

// repeats counts the ids that are the same as the one before, as those of values that come without a dictionary are.
func repeats(ids []uint32) (n int) {
	for i := 1; i < len(ids); i++ {
		if ids[i] == ids[i-1] {
			n++
		}
	}
	return n
}

// meet takes note of the values that codes stand for, which occur in the open page, and reports whether some were new to the dictionary.
func (f *fixed[T]) meet(in *translation, codes []uint32, list []T) (added bool) {
	f.scratch = f.scratch[:0]
	for _, code := range codes {
		v := list[code]
		f.scratch = append(f.scratch, v)
		if e := &in.entries[code]; e.id == 0 {
			e.id, added = f.dict.Number(v)+1, true
		}
	}
	f.odd = f.stretch(f.scratch) > 0 || f.odd
	return added
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
	in := t.known.table(&d.Dictionary().Data().Buffers()[1].Bytes()[0], d.Dictionary().Len())
	first := len(t.ids)
	t.ids = room(t.ids, len(codes))[:first+len(codes)]
	ids := t.ids[first:]
	known := true
	for _, code := range t.known.look(in, codes, ids, t.pages) {
		known = t.meet(&in.entries[code], data[offsets[code]:offsets[code+1]]) && known
	}
	if !known {
		lookAgain(in.entries, codes, ids)
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
