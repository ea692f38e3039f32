// Package roaring takes the place of a library of packed bitmaps that the table library asks for, for deletion vectors. Tables with
// such are refused by name here before any is read, so their packed form is neither read nor written.
package roaring

import (
	"errors"
	"io"
	"maps"
	"slices"
)

// ErrPacked says that the packed form of bitmaps is not known here.
var ErrPacked = errors.New("packed bitmaps are neither read nor written by this program")

// Bitmap is a set of numbers.
type Bitmap struct{ set map[uint32]struct{} }

// New returns an empty set.
func New() *Bitmap { return &Bitmap{set: map[uint32]struct{}{}} }

// Add adds a number.
func (b *Bitmap) Add(x uint32) { b.set[x] = struct{}{} }

// AddRange adds the numbers from start to before end.
func (b *Bitmap) AddRange(start, end uint64) {
	for x := start; x < end; x++ {
		b.Add(uint32(x))
	}
}

// Contains reports whether a number is in the set.
func (b *Bitmap) Contains(x uint32) bool {
	_, ok := b.set[x]
	return ok
}

// Clone returns a copy.
func (b *Bitmap) Clone() *Bitmap { return &Bitmap{set: maps.Clone(b.set)} }

// Or adds the numbers of another set.
func (b *Bitmap) Or(other *Bitmap) { maps.Copy(b.set, other.set) }

// GetCardinality returns how many numbers there are.
func (b *Bitmap) GetCardinality() uint64 { return uint64(len(b.set)) }

// CardinalityInRange returns how many there are from start to before end.
func (b *Bitmap) CardinalityInRange(start, end uint64) (n uint64) {
	for x := range b.set {
		if uint64(x) >= start && uint64(x) < end {
			n++
		}
	}
	return n
}

// RunOptimize does nothing: there is no packed form.
func (b *Bitmap) RunOptimize() {}

// IsEmpty reports whether there are none.
func (b *Bitmap) IsEmpty() bool { return len(b.set) == 0 }

// sorted returns the numbers in order.
func (b *Bitmap) sorted() []uint32 { return slices.Sorted(maps.Keys(b.set)) }

// DenseSize returns how many words ToDense returns.
func (b *Bitmap) DenseSize() uint64 {
	if b.IsEmpty() {
		return 0
	}
	return uint64(slices.Max(b.sorted()))/64 + 1
}

// ToDense returns a bit for each number up to the largest, the first in the lowest bit of the first word.
func (b *Bitmap) ToDense() []uint64 {
	out := make([]uint64, b.DenseSize())
	for x := range b.set {
		out[x/64] |= 1 << (x % 64)
	}
	return out
}

// IntPeekable goes through numbers in order.
type IntPeekable interface {
	HasNext() bool
	Next() uint32
}

type iterator struct{ left []uint32 }

func (i *iterator) HasNext() bool { return len(i.left) > 0 }

func (i *iterator) Next() uint32 {
	x := i.left[0]
	i.left = i.left[1:]
	return x
}

// Iterator goes through the numbers in order.
func (b *Bitmap) Iterator() IntPeekable { return &iterator{b.sorted()} }

// GetSerializedSizeInBytes returns 0: there is no packed form.
func (b *Bitmap) GetSerializedSizeInBytes() uint64 { return 0 }

// WriteTo returns ErrPacked.
func (b *Bitmap) WriteTo(io.Writer) (int64, error) { return 0, ErrPacked }

// ReadFrom returns ErrPacked.
func (b *Bitmap) ReadFrom(io.Reader, ...byte) (int64, error) { return 0, ErrPacked }
