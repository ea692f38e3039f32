package delimited

import (
	"encoding/binary"

	"trevak/internal/lexical"
)

// Keys gathers the first n texts of one field from a row on as numbers, as lexical.ShortKey has them, with their sizes in bytes. present has a bit for
// each that is not empty. others has one for each that must be asked for itself: those that are longer than eight bytes, have doubled quotes, are empty in
// quotes or stand at the very end of the block; their key and size are 0.
func (r *Records) Keys(row, column, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	return r.keys(r.fields[row*r.Width+column:], min(n, lexical.Together), keys, sizes)
}

// keysOneByOne is Keys for any processor, for the first n of the fields that are as far apart as those of a column.
func (r *Records) keysOneByOne(fields []span, n int, keys, sizes *[lexical.Together]uint64) (present, others uint64) {
	data := r.Block.Data
	for i := range n {
		f := fields[i*r.Width]
		size, start := f.end-f.start&^flag, int(f.start&^flag)
		if size > 8 || f.start>>31 > size || start+8 > len(data) {
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

// Places finds the first n texts of one field from a row on. present has a bit for each that is not empty; others has one for each that must be asked for
// itself: those that have doubled quotes or are empty in quotes. The sizes of those are 0.
func (r *Records) Places(row, column, n int, places *[lexical.Together]lexical.Place) (present, others uint64) {
	fields := r.fields[row*r.Width+column:]
	for i := range min(n, lexical.Together) {
		f := fields[i*r.Width]
		start := f.start &^ flag
		size := f.end - start
		// It is very large where quotes are doubled.
		odd := size >> 31
		empty := (size - 1) >> 31 &^ odd
		others |= uint64(odd|empty&(f.start>>31)) << i
		size &= odd - 1
		places[i] = lexical.Place{Start: start, Size: size}
		present |= uint64(-size>>31) << i
	}
	return present, others
}

// Words gathers the first n texts of one field from a row on as words. others has a bit for each that must be asked for itself, being longer than
// lexical.WordBytes or at the very end of the block; its word is that of the empty text.
func (r *Records) Words(row, column, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	return r.gatherWords(r.fields[row*r.Width+column:], min(n, lexical.Together), words)
}

// wordsOneByOne is Words for any processor, for the first n of the fields that are as far apart as those of a column.
func (r *Records) wordsOneByOne(fields []span, n int, words *[lexical.Together]lexical.Word) (others uint64) {
	data := r.Block.Data
	for i := range n {
		f := fields[i*r.Width]
		start := int(f.start &^ flag)
		size := int(f.end&^flag) - start
		if size > lexical.WordBytes || start+16 > len(data) {
			others |= 1 << i
			words[i] = lexical.Word{}
			continue
		}
		words[i] = lexical.WordOf((*[16]byte)(data[start:start+16]), size).Quoted(f.start&flag != 0, f.end&flag != 0)
	}
	return others
}
