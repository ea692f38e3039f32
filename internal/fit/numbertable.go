package fit

import (
	"trevak/internal/lexical"
	"trevak/internal/parse/cells"
	"trevak/internal/prefault"
	"trevak/internal/wordtable"
)

// numberTable finds the numbers of texts that are themselves decimal numbers, by their digits: what lies next to each other as
// a quantity does so in memory. It takes texts of up to eight bytes that are written in the one way that values have, all with
// as many digits behind the point.
type numberTable struct {
	scale int64 // how many digits stand behind the point, -1 while that is not known
	// ids are numbers plus one by what the digits are beyond base; 0 where that was not met. The first is for what is no such text.
	ids  []uint16
	base int64
	room *int // how many more ids there may be in all tables of a worker
}

func newNumberTable(room *int) *numberTable {
	return &numberTable{scale: -1, ids: make([]uint16, 1), room: room}
}

// mostNumbers bounds the size of the tables of a worker: they shall stay near the processor.
const mostNumbers = 1 << 18

// shortTexts are the texts of some fields by which they are read together.
type shortTexts struct {
	keys, sizes    [lexical.Together]uint64
	places         [lexical.Together]lexical.Place
	values, scales [lexical.Together]int64
	words          [lexical.Together]lexical.Word
}

// known is what wordtable.Table.Known is, for up to lexical.Together numbers.
func (t *numberTable) known(texts *shortTexts, codes []uint32, in *cells.Column, row int) (present, others uint64) {
	n := len(codes)
	there, others := in.Keys(row, n, &texts.keys, &texts.sizes)
	read := lexical.Numbers(&texts.values, &texts.scales, &texts.keys, &texts.sizes, n)
	present = t.look(codes, texts, read)
	return present, others | there&^present
}

// lookOneByOne looks for numbers that were read: present has a bit for each that is in the table, to which its code is set. The
// codes of the rest are 0. The values of texts may be overwritten.
func (t *numberTable) lookOneByOne(codes []uint32, texts *shortTexts, read uint64) (present uint64) {
	ids, base, scale := t.ids, t.base, t.scale
	for i := range codes {
		at := uint64(texts.values[i] - base)
		// All bits where the text is such a number, else none.
		same := uint64(texts.scales[i] ^ scale)
		such := -(read >> (i & 63) & 1 & ((same - 1) >> 63))
		if at &= such; at >= uint64(len(ids)) {
			at = 0
		}
		id := uint32(ids[at])
		known := (id | -id) >> 31
		codes[i] = id - known
		present |= uint64(known) << (i & 63)
	}
	return present
}

// free gives up the table.
func (t *numberTable) free() { *t.room += t.taken() }

// taken is how many ids of those that there may be the table has.
func (t *numberTable) taken() int {
	if len(t.ids) == 1 {
		return 0
	}
	return len(t.ids)
}

// add takes a text with its number plus one, where it is one that can be found by its digits; full says that there is no room for it.
func (t *numberTable) add(text []byte, id uint32) (added, full bool) {
	if len(text) == 0 || len(text) > 8 {
		return false, false
	}
	v, scale, ok := lexical.Number(lexical.ShortKey(text), len(text))
	if t.scale < 0 && ok {
		t.scale = int64(scale)
	}
	if !ok || int64(scale) != t.scale {
		return false, false
	}
	if id > wordtable.MostNumbers || !t.reach(v) {
		return false, true
	}
	t.ids[v-t.base] = uint16(id)
	return true, false
}

// reach makes room for a number, unless the table would become too large.
func (t *numberTable) reach(v int64) bool {
	const step = 1 << 10
	// The first is for no number.
	low, high := (v-1)&^(step-1), v&^(step-1)+step
	if t.taken() > 0 {
		if v <= t.base {
			high = t.base + int64(len(t.ids))
		} else {
			low, high = t.base, max(t.base+int64(len(t.ids)), high)
		}
	}
	missing := int(high-low) - t.taken()
	if missing == 0 {
		return true
	}
	if high-low > mostNumbers || missing > *t.room {
		return false
	}
	*t.room -= missing
	ids := prefault.Table[uint16](int(high - low))
	if t.taken() > 0 {
		copy(ids[t.base-low:], t.ids)
	}
	t.base, t.ids = low, ids
	return true
}
