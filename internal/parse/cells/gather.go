package cells

import (
	"encoding/binary"

	"trevak/internal/lexical"
)

// Keys gathers the first n texts from one on as numbers, as lexical.ShortKey has them, with their sizes in bytes. present has a
// bit for each that is not empty. others has one for each that must be asked for itself: those that are longer than eight
// bytes, have escapes, are empty in quotes or stand at the very end of the block; their key and size are 0.
func (c *Column) Keys(from, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	return c.keys(c.Spans[from*c.Stride:], min(n, lexical.Together), keys, sizes)
}

// keysOneByOne is Keys for any processor, for the first n of spans that are Stride apart.
func (c *Column) keysOneByOne(spans []Span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	data := c.Data
	for i := range n {
		f := spans[i*c.Stride]
		size, start := f.End-f.Start&^Flag, int(f.Start&^Flag)
		if size > 8 || f.Start>>31 > size || start+8 > len(data) {
			others |= 1 << i
			keys[i], sizes[i] = 0, 0
			continue
		}
		// A shift by 64 bits, of an empty text, gives 0.
		keys[i] = binary.LittleEndian.Uint64(data[start:start+8]) << (64 - 8*size)
		sizes[i] = uint64(size)
		present |= uint64(-size>>31) << i
	}
	return present, others
}

// Places finds the first n texts from one on. present has a bit for each that is not empty; others has one for each that must
// be asked for itself: those that have escapes or are empty in quotes. The sizes of those are 0.
func (c *Column) Places(from, n int, places *[lexical.Together]lexical.Place) (present, others uint64) {
	spans := c.Spans[from*c.Stride:]
	for i := range min(n, lexical.Together) {
		f := spans[i*c.Stride]
		start := f.Start &^ Flag
		size := f.End - start
		// It is very large where there are escapes.
		odd := size >> 31
		empty := (size - 1) >> 31 &^ odd
		others |= uint64(odd|empty&(f.Start>>31)) << i
		size &= odd - 1
		places[i] = lexical.Place{Start: start, Size: size}
		present |= uint64(-size>>31) << i
	}
	return present, others
}

// Words gathers the first n texts from one on as words. others has a bit for each that must be asked for itself, being longer than
// lexical.WordBytes or at the very end of the block; its word is that of the empty text.
func (c *Column) Words(from, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	return c.gatherWords(c.Spans[from*c.Stride:], min(n, lexical.Together), words)
}

// wordsOneByOne is Words for any processor, for the first n of spans that are Stride apart.
func (c *Column) wordsOneByOne(spans []Span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	data := c.Data
	for i := range n {
		f := spans[i*c.Stride]
		start := int(f.Start &^ Flag)
		size := int(f.End&^Flag) - start
		if size > lexical.WordBytes || start+16 > len(data) {
			others |= 1 << i
			words[i] = lexical.Word{}
			continue
		}
		words[i] = lexical.WordOf((*[16]byte)(data[start:start+16]), size).Quoted(f.Start&Flag != 0, f.End&Flag != 0)
	}
	return others
}
