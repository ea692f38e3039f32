package fit

import (
	"encoding/binary"

	"trevak/internal/lexical"
	"trevak/internal/parse/delimited"
)

// numberTable finds the numbers of texts that are themselves decimal numbers, by their digits: what lies next to each other as a quantity does so in
// memory. It takes texts of up to eight bytes that are written in the one way that values have, all with as many digits behind the point.
type numberTable struct {
	lexical.Digits
	ids  []uint32
	base int64 // what ids[0] is for
	room *int  // how many more ids there may be in all tables of a worker
}

// mostNumbers bounds the size of the tables of a worker: they shall stay near the processor.
const mostNumbers = 1 << 18

// known is what words.known is, for numbers.
func (t *numberTable) known(codes []uint32, r *delimited.Records, field, from, to int) ([]uint32, int) {
	data, ids, base, digits := r.Block.Data, t.ids, t.base, t.Digits
	for row := from; row < to; row++ {
		start, end, _, doubled := r.Place(row, field)
		n := end - start
		if uint(n-1) >= shortWord || doubled || start+shortWord > len(data) {
			return codes, row
		}
		v, ok := digits.Parse(binary.LittleEndian.Uint64(data[start:])<<((64-8*n)&63), n)
		at := uint64(v - base)
		if !ok || at >= uint64(len(ids)) || ids[at] == 0 {
			return codes, row
		}
		codes = append(codes, ids[at]-1)
	}
	return codes, to
}

// free gives up the table.
func (t *numberTable) free() { *t.room += len(t.ids) }

// add takes a text with its number plus one, where it is one that can be found by its digits; full says that there is no room for it.
func (t *numberTable) add(text []byte, id uint32) (added, full bool) {
	if len(text) == 0 || len(text) > shortWord {
		return false, false
	}
	if t.Scale < 0 {
		t.Digits = lexical.NewDigits(lexical.ScaleOf(text))
	}
	v, ok := t.Parse(lexical.ShortKey(text), len(text))
	if !ok || !t.reach(v) {
		return false, ok
	}
	t.ids[v-t.base] = id
	return true, false
}

// reach makes room for a number, unless the table would become too large.
func (t *numberTable) reach(v int64) bool {
	const step = 1 << 10
	low, high := v&^(step-1), v&^(step-1)+step
	if len(t.ids) > 0 {
		low, high = min(t.base, low), max(t.base+int64(len(t.ids)), high)
	}
	missing := int(high-low) - len(t.ids)
	if missing == 0 {
		return true
	}
	if high-low > mostNumbers || missing > *t.room {
		return false
	}
	*t.room -= missing
	ids := make([]uint32, high-low)
	if len(t.ids) > 0 {
		copy(ids[t.base-low:], t.ids)
	}
	t.base, t.ids = low, ids
	return true
}
