package encode

import (
	"bytes"
	"encoding/binary"
	"math/bits"

	"github.com/zeebo/xxh3"

	"trevak/internal/prefault"
)

// A dictionary numbers different values in the order in which they first come. Both kinds are open-addressing tables that are
// never more than half full.

// firstSlots is the size of an empty table.
const firstSlots = 256

// Fixed is a dictionary of values of 4 or 8 bytes; floating-point values go in as their bits.
type Fixed[T integer] struct {
	// Values are the different values by number.
	Values []T
	// Repeated counts the values given to Add that were the same as the one before.
	Repeated int
	slots    []fixedSlot[T]
	shift    int
}

type fixedSlot[T integer] struct {
	value T
	id    uint32 // number plus one, 0 in an empty slot
}

// Add appends the number of each value to ids.
func (d *Fixed[T]) Add(ids []uint32, values []T) []uint32 {
	for i, v := range values {
		// Values often stand in runs.
		if i > 0 && v == values[i-1] {
			ids = append(ids, ids[len(ids)-1])
			d.Repeated++
			continue
		}
		if 2*len(d.Values) >= len(d.slots) {
			d.grow()
		}
		ids = append(ids, d.id(v))
	}
	return ids
}

// Number returns the number of a value, adding it when it is new.
func (d *Fixed[T]) Number(v T) uint32 {
	if 2*len(d.Values) >= len(d.slots) {
		d.grow()
	}
	return d.id(v)
}

// spread is the golden ratio in 64 bits: multiplying by it spreads neighbouring values over the upper bits.
const spread = 0x9e3779b97f4a7c15

func (d *Fixed[T]) slot(v T) int { return int(uint64(v) * spread >> d.shift) }

func (d *Fixed[T]) id(v T) uint32 {
	at := d.slot(v)
	for {
		s := &d.slots[at]
		if s.id == 0 {
			d.Values = append(d.Values, v)
			*s = fixedSlot[T]{v, uint32(len(d.Values))}
			return s.id - 1
		}
		if s.value == v {
			return s.id - 1
		}
		at = (at + 1) & (len(d.slots) - 1)
	}
}

func (d *Fixed[T]) grow() {
	d.slots = larger(d.slots)
	d.shift = 64 - bits.TrailingZeros(uint(len(d.slots)))
	for i, v := range d.Values {
		at := d.slot(v)
		for d.slots[at].id != 0 {
			at = (at + 1) & (len(d.slots) - 1)
		}
		d.slots[at] = fixedSlot[T]{v, uint32(i + 1)}
	}
}

// Reset empties the dictionary but keeps its memory.
func (d *Fixed[T]) Reset() {
	d.slots = emptied(d.slots, len(d.Values))
	d.shift = 64 - bits.TrailingZeros(uint(len(d.slots)))
	d.Values, d.Repeated = d.Values[:0], 0
}

// larger makes an empty table of twice the size, in the memory of the old one where that was larger before.
func larger[S any](slots []S) []S {
	n := max(firstSlots, 2*len(slots))
	if n <= cap(slots) {
		slots = slots[:n]
		clear(slots)
		return slots
	}
	return prefault.Table[S](n)
}

// emptied empties a table in which n values were. It is as large as such a number needs: to clear one that was made for very
// many would take longer than to fill it with few.
func emptied[S any](slots []S, n int) []S {
	if len(slots) == 0 {
		return nil
	}
	size := firstSlots
	for size < 2*n {
		size *= 2
	}
	slots = slots[:min(size, len(slots))]
	clear(slots)
	return slots
}

// Text is a dictionary of byte strings.
type Text struct {
	// Bytes holds the different values one after the other, Ends where each of them ends.
	Bytes []byte
	Ends  []uint32
	slots []textSlot
}

type textSlot struct{ hash, id uint32 }

// Len returns the number of different values.
func (d *Text) Len() int { return len(d.Ends) }

// Value returns the value of a number.
func (d *Text) Value(id uint32) []byte {
	start := uint32(0)
	if id > 0 {
		start = d.Ends[id-1]
	}
	return d.Bytes[start:d.Ends[id]]
}

// ID returns the number of a value, adding it when it is new.
func (d *Text) ID(v []byte) uint32 {
	if 2*len(d.Ends) >= len(d.slots) {
		d.grow()
	}
	hash := hashText(v)
	at := int(hash) & (len(d.slots) - 1)
	for {
		s := &d.slots[at]
		if s.id == 0 {
			d.Bytes = append(d.Bytes, v...)
			d.Ends = append(d.Ends, uint32(len(d.Bytes)))
			*s = textSlot{hash, uint32(len(d.Ends))}
			return s.id - 1
		}
		if s.hash == hash && bytes.Equal(d.Value(s.id-1), v) {
			return s.id - 1
		}
		at = (at + 1) & (len(d.slots) - 1)
	}
}

func (d *Text) grow() {
	d.slots = larger(d.slots)
	for i := range d.Ends {
		hash := hashText(d.Value(uint32(i)))
		at := int(hash) & (len(d.slots) - 1)
		for d.slots[at].id != 0 {
			at = (at + 1) & (len(d.slots) - 1)
		}
		d.slots[at] = textSlot{hash, uint32(i + 1)}
	}
}

// Reset empties the dictionary but keeps its memory.
func (d *Text) Reset() {
	d.slots = emptied(d.slots, len(d.Ends))
	d.Bytes, d.Ends = d.Bytes[:0], d.Ends[:0]
}

// hashText mixes short texts from two overlapping words; long ones go to xxh3.
func hashText(v []byte) uint32 {
	var a, b uint64
	switch n := len(v); {
	case n > 16:
		return uint32(xxh3.Hash(v))
	case n >= 8:
		a, b = binary.LittleEndian.Uint64(v), binary.LittleEndian.Uint64(v[n-8:])
	case n >= 4:
		a, b = uint64(binary.LittleEndian.Uint32(v)), uint64(binary.LittleEndian.Uint32(v[n-4:]))
	case n > 0:
		a, b = uint64(v[0]), uint64(v[n/2])<<8|uint64(v[n-1])
	}
	high, low := bits.Mul64(a^spread^uint64(len(v)), b^0xd6e8feb86659fd93)
	return uint32((high ^ low) >> 7)
}
