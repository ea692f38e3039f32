package schema

import (
	"encoding/binary"
	"math"
	"math/bits"
	"sync/atomic"

	"github.com/zeebo/xxh3"
)

// sketchBits gives 4,096 registers: a standard error of 1.04/√4096, 1.6 percent.
const sketchBits = 12

// exactUpTo is how many different hashes are kept as they are before the registers take over.
const exactUpTo = 48

// Sketch estimates how many different values were added, in at most 4 KiB: exact for a few, or for more where it is given
// room, HyperLogLog otherwise (Flajolet,
// Fusy, Gandouet and Meunier, 2007, with its correction for small counts). The zero value is ready. Merging is independent of
// order.
type Sketch struct {
	few []uint64
	// set holds hashes by open addressing, 0 for none, where there is room to count on exactly; held is how many.
	set       []uint64
	held      int
	room      *Room
	registers []uint8
	// off says that nothing is counted.
	off bool
}

// Room is memory that sketches share for counting exactly.
type Room struct {
	size int64
	left atomic.Int64
}

// NewRoom makes room for so many hashes, of 8 bytes each.
func NewRoom(hashes int64) *Room {
	r := &Room{size: hashes}
	r.left.Store(hashes)
	return r
}

// take reserves room and reports whether there was enough.
func (r *Room) take(hashes int) bool {
	if r == nil {
		return false
	}
	if r.left.Add(int64(-hashes)) >= 0 {
		return true
	}
	r.give(hashes)
	return false
}

// half reports whether at least half of the room would be left without so many hashes.
func (r *Room) half(hashes int) bool { return r.left.Load()-int64(hashes) >= r.size/2 }

// give returns room that was taken.
func (r *Room) give(hashes int) {
	if r != nil {
		r.left.Add(int64(hashes))
	}
}

// mostExact is how many different values are counted exactly where there is room.
const mostExact = 150_000

// Add takes a value's text.
func (s *Sketch) Add(value []byte) { s.AddHash(hashText(value)) }

// spread is an odd number whose bits look random, to multiply hashes by.
const spread = 0x9e3779b97f4a7c15

// hashText hashes a text: short ones from the two words that identify them, long ones by xxh3.
func hashText(b []byte) uint64 {
	if len(b) > longestWordPair {
		return xxh3.Hash(b)
	}
	low, high := wordPair(b)
	return mix(low^uint64(len(b))*spread, high)
}

// longestWordPair is the length up to which a text is told from all others of its length by two words.
const longestWordPair = 16

// wordPair returns two words that hold every byte of a text of at most longestWordPair bytes.
func wordPair(b []byte) (low, high uint64) {
	switch n := len(b); {
	case n >= 8:
		return binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-8:])
	case n >= 4:
		return uint64(binary.LittleEndian.Uint32(b)), uint64(binary.LittleEndian.Uint32(b[n-4:]))
	case n > 0:
		return uint64(b[0]), uint64(b[n/2])<<8 | uint64(b[n-1])
	}
	return 0, 0
}

// mix makes 64 well-spread bits of two words, by two rounds of folding a product.
func mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a^spread, b^0xd6e8feb86659fd93)
	high, low = bits.Mul64(high^low^spread, a^0xa0761d6478bd642f)
	return high ^ low
}

// AddHash adds a value by a hash of it whose bits are well spread.
func (s *Sketch) AddHash(h uint64) {
	if s.off {
		return
	}
	if s.registers == nil && s.addExactly(h) {
		return
	}
	at := h >> (64 - sketchBits)
	rank := uint8(bits.LeadingZeros64(h<<sketchBits|1<<(sketchBits-1))) + 1
	if rank > s.registers[at] {
		s.registers[at] = rank
	}
}

// addExactly keeps a hash as it is. It reports false once the registers have taken over.
func (s *Sketch) addExactly(h uint64) bool {
	if s.set == nil {
		for _, known := range s.few {
			if known == h {
				return true
			}
		}
		if len(s.few) < exactUpTo {
			s.few = append(s.few, h)
			return true
		}
	}
	if !s.grow() {
		s.estimate()
		return false
	}
	s.insert(h)
	return true
}

// grow makes the set large enough for one hash more, and reports whether there is room.
func (s *Sketch) grow() bool {
	const least = 4 * exactUpTo
	size := len(s.set)
	switch {
	case size == 0:
		size = 1 << bits.Len(least-1)
	case 4*(s.held+1) > 3*size:
		size *= 2
	default:
		return true
	}
	if s.held >= mostExact || !s.room.take(size-len(s.set)) {
		return false
	}
	old := append(s.few, s.set...)
	s.set, s.few, s.held = make([]uint64, size), nil, 0
	for _, h := range old {
		if h != 0 {
			s.insert(h)
		}
	}
	return true
}

func (s *Sketch) insert(h uint64) {
	h = max(h, 1)
	mask := uint64(len(s.set) - 1)
	for at := h * spread >> 20 & mask; ; at = (at + 1) & mask {
		switch s.set[at] {
		case h:
			return
		case 0:
			s.set[at] = h
			s.held++
			return
		}
	}
}

// estimate goes over to the registers.
func (s *Sketch) estimate() {
	exact := append(s.few, s.set...)
	if s.set != nil {
		s.room.give(len(s.set))
	}
	s.registers, s.few, s.set, s.held = make([]uint8, 1<<sketchBits), nil, nil, 0
	for _, h := range exact {
		if h != 0 {
			s.AddHash(h)
		}
	}
}

// forget empties the sketch and gives its room back.
func (s *Sketch) forget() {
	if s.set != nil {
		s.room.give(len(s.set))
	}
	*s = Sketch{}
}

// Merge adds everything that was added to o.
func (s *Sketch) Merge(o *Sketch) {
	if s.room == nil {
		s.room = o.room
	}
	for _, h := range o.few {
		s.AddHash(h)
	}
	for _, h := range o.set {
		if h != 0 {
			s.AddHash(h)
		}
	}
	if o.registers == nil {
		return
	}
	if s.registers == nil {
		s.estimate()
	}
	for i, rank := range o.registers {
		s.registers[i] = max(s.registers[i], rank)
	}
}

// Estimate returns the number of different values and whether it is exact.
func (s *Sketch) Estimate() (count int64, exact bool) {
	if s.registers == nil {
		return int64(len(s.few) + s.held), true
	}
	const m = 1 << sketchBits
	sum, zeros := 0.0, 0
	for _, rank := range s.registers {
		sum += math.Ldexp(1, -int(rank))
		if rank == 0 {
			zeros++
		}
	}
	estimate := 0.7213 / (1 + 1.079/m) * m * m / sum
	if estimate <= 2.5*m && zeros > 0 {
		estimate = m * math.Log(m/float64(zeros))
	}
	return int64(math.Round(estimate)), false
}
