package fit

import (
	"encoding/binary"

	"trevak/internal/parse/delimited"
)

// numberTable finds the numbers of texts that are themselves decimal numbers, by their digits: what lies next to each other as a quantity does so in
// memory. It takes texts of up to eight bytes that are written in the one way that values have, all with as many digits behind the point.
type numberTable struct {
	digits
	ids  []uint32
	base int64 // what ids[0] is for
	room *int  // how many more ids there may be in all tables of a worker
}

// digits reads decimal numbers of up to eight bytes at once, all with as many digits behind the point.
type digits struct {
	scale     int    // digits behind the point; -1 when it was not set yet
	mark      int    // 1 where there is a point
	behind    uint64 // the bytes of a key behind the point, all where there is none
	before    uint64 // the bytes of a key before the point
	at, point uint64 // where the point is, and it
}

// mostNumbers bounds the size of the tables of a worker: they shall stay near the processor.
const mostNumbers = 1 << 18

const (
	zeros = 0x3030303030303030 // eight zeros
	tops  = 0x8080808080808080 // the top bits of eight bytes
	nines = 0x7676767676767676 // what makes bytes above 9 reach the top bit
)

// newDigits prepares for numbers with as many digits behind the point.
func newDigits(scale int) digits {
	if scale <= 0 {
		return digits{scale: scale, behind: 1<<64 - 1}
	}
	at := 56 - 8*scale
	return digits{scale, 1, ^uint64(0) << (at + 8), 1<<at - 1, 0xff << at, '.' << at}
}

// parse returns the digits of the text of n bytes with a key (see shortWords) as a whole number. It takes no leading zeros, and no minus zero.
func (t *digits) parse(key uint64, n int) (v int64, ok bool) {
	// Signs and numbers of digits come in no order that could be foreseen, so there are no branches for them.
	negative := int64((key>>((64-8*n)&63)&0xff ^ '-' - 1) >> 63)
	count := n - t.mark - int(negative)
	whole := count - t.scale
	if key&t.at != t.point || whole < 1 {
		return 0, false
	}
	d := key&t.behind | key&t.before<<8
	d ^= zeros
	// What stands before the digits, be it nothing or a sign, counts for zeros.
	d &= ^uint64(0) << ((64 - 8*count) & 63)
	if (d+nines|d)&tops != 0 {
		return 0, false
	}
	if d>>((64-8*count)&63)&0xff == 0 && whole > 1 {
		return 0, false // a leading zero
	}
	d = (d*10 + d>>8) & 0x00ff00ff00ff00ff
	d = (d*100 + d>>16) & 0x0000ffff0000ffff
	d = (d*10000 + d>>32) & 0x00000000ffffffff
	v = (int64(d) ^ -negative) + negative
	return v, v != 0 || negative == 0
}

// known is what words.known is, for numbers. It does what parse does, with all that stays the same at hand.
func (t *numberTable) known(codes []uint32, r *delimited.Records, field, from, to int) ([]uint32, int) {
	data, ids, base := r.Block.Data, t.ids, t.base
	behind, before, where, point, scale, mark := t.behind, t.before, t.at, t.point, t.scale, t.mark
	for row := from; row < to; row++ {
		start, end, _, doubled := r.Place(row, field)
		n := end - start
		if uint(n-1) >= shortWord || doubled || start+shortWord > len(data) {
			return codes, row
		}
		key := binary.LittleEndian.Uint64(data[start:]) << ((64 - 8*n) & 63)
		negative := int64((key>>((64-8*n)&63)&0xff ^ '-' - 1) >> 63)
		count := n - mark - int(negative)
		d := (key&behind | key&before<<8) ^ zeros
		d &= ^uint64(0) << ((64 - 8*count) & 63)
		if (d+nines|d)&tops|(key&where^point) != 0 || count-scale < 1 || d>>((64-8*count)&63)&0xff == 0 && count-scale > 1 {
			return codes, row
		}
		d = (d*10 + d>>8) & 0x00ff00ff00ff00ff
		d = (d*100 + d>>16) & 0x0000ffff0000ffff
		d = (d*10000 + d>>32) & 0x00000000ffffffff
		at := uint64((int64(d) ^ -negative) + negative - base)
		if at >= uint64(len(ids)) || ids[at] == 0 || d|uint64(negative^1) == 0 {
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
	if t.scale < 0 {
		scale := 0
		for i, c := range text {
			if c == '.' {
				scale = len(text) - 1 - i
			}
		}
		t.digits = newDigits(scale)
	}
	v, ok := t.parse(shortKey(text), len(text))
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
