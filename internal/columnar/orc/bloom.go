package orc

import (
	"encoding/binary"
	"math"
	"math/bits"
	"slices"
)

// bloom gathers the values of one column for a Bloom filter of each row group ("Bloom Filter Index"): their hashes until the
// row group ends, when it is known how many there are.
type bloom struct {
	hashes []uint64
	groups []message // those of the open stripe
}

// falsePositives is how often a filter may say that a value is there that is not.
const falsePositives = 0.01

// long takes a whole number, by Thomas Wang's hash function.
func (b *bloom) long(v int64) {
	v = ^v + v<<21
	v ^= v >> 24
	v += v<<3 + v<<8
	v ^= v >> 14
	v += v<<2 + v<<4
	v ^= v >> 28
	b.hashes = append(b.hashes, uint64(v+v<<31))
}

// micros takes an instant in microseconds; filters know milliseconds.
func (b *bloom) micros(v int64) {
	millis, _ := floorDivide(v, 1000)
	b.long(millis)
}

// text takes bytes.
func (b *bloom) text(v []byte) { b.hashes = append(b.hashes, murmur64(v)) }

// murmur64 is the form of Murmur3 with one word of state, by the seed that filters have.
func murmur64(v []byte) uint64 {
	const c1, c2, seed = 0x87c37b91114253d5, 0x4cf5ad432745937f, 104729
	mixed := func(k uint64) uint64 { return bits.RotateLeft64(k*c1, 31) * c2 }
	h, n := uint64(seed), len(v)
	for ; len(v) >= 8; v = v[8:] {
		h = bits.RotateLeft64(h^mixed(binary.LittleEndian.Uint64(v)), 27)*5 + 0x52dce729
	}
	var last [8]byte
	copy(last[:], v)
	h ^= mixed(binary.LittleEndian.Uint64(last[:])) ^ uint64(n)
	h = (h ^ h>>33) * 0xff51afd7ed558ccd
	h = (h ^ h>>33) * 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

// endGroup makes the filter of a row group, as large as its different values need.
func (b *bloom) endGroup() {
	slices.Sort(b.hashes)
	different := slices.Compact(b.hashes)
	n := float64(max(1, len(different)))
	words := max(1, int(math.Ceil(-n*math.Log(falsePositives)/(math.Ln2*math.Ln2)/64)))
	functions := max(1, int(math.Round(float64(64*words)/n*math.Ln2)))
	set := make([]byte, 8*words)
	for _, h := range different {
		for i := 1; i <= functions; i++ {
			at := int32(h) + int32(i)*int32(h>>32)
			if at < 0 {
				at = ^at
			}
			bit := int(at) % (64 * words)
			set[bit/8] |= 1 << (bit % 8)
		}
	}
	var filter message
	filter.uint(1, uint64(functions))
	filter.bytes(3, set)
	b.groups, b.hashes = append(b.groups, filter), b.hashes[:0]
}

// index is the message of the filters of a stripe; it begins the next.
func (b *bloom) index() message {
	var m message
	for _, filter := range b.groups {
		m.bytes(1, filter)
	}
	b.groups = nil
	return m
}
