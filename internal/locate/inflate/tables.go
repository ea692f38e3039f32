package inflate

import "math/bits"

// An entry of a decoding table tells what a code stands for in one look. Bits 0 to 5 are how many bits it takes, with those that
// follow a code as the rest of a length or distance, and bits 8 to 11 the bits of the code alone. Then come, from bit 12 on, the
// base of the length or distance, or the entry that a subtable begins at, which is looked up by so many bits more as bits 8 to 11 say.
// Bytes stand in bits 8 to 15, and the second of a pair in bits 16 to 23.
const (
	isLiteral = 1 << 31
	isPair    = 1 << 30
	isOther   = 1 << 29 // none of what the fast loop knows: a subtable, the end of a block, or no code
	isEnd     = 1 << 28
	isNone    = 1 << 27

	takenMask = 1<<6 - 1
	codeShift = 8
	codeMask  = 1<<4 - 1
	baseShift = 12
	baseMask  = 1<<15 - 1
)

// Codes are looked up by so many bits first; what is longer goes on in subtables behind the primary table. In a complete code so many
// symbols cannot have more of them.
const (
	litBits     = 11
	distBits    = 9
	litEntries  = 1<<litBits + 1024
	distEntries = 1<<distBits + 512
	longestCode = 15
)

type (
	litTable  [litEntries]uint32
	distTable [distEntries]uint32
)

// The lengths and distances of symbols, and how many bits follow them (RFC 1951, section 3.2.5).
var (
	lengthBases = [...]uint32{3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227,
		258}
	lengthRests = [...]uint32{0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0}
	distBases   = [...]uint32{1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769, 1025, 1537, 2049, 3073, 4097,
		6145, 8193, 12289, 16385, 24577}
	distRests = [...]uint32{0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13}
)

// endOfBlock is the symbol that ends a block.
const endOfBlock = 256

// litEntry is the entry of a symbol of literals and lengths, without its code.
func litEntry(symbol int, code uint32) uint32 {
	switch {
	case symbol < endOfBlock:
		return isLiteral | uint32(symbol)<<codeShift | code
	case symbol == endOfBlock:
		return isOther | isEnd | code
	case symbol-endOfBlock-1 < len(lengthBases):
		at := symbol - endOfBlock - 1
		return lengthBases[at]<<baseShift | code<<codeShift | code + lengthRests[at]
	}
	return isOther | isNone | code
}

// distEntry is the entry of a symbol of distances.
func distEntry(symbol int, code uint32) uint32 {
	if symbol >= len(distBases) {
		return isOther | isNone | code
	}
	return distBases[symbol]<<baseShift | code<<codeShift | code + distRests[symbol]
}

// build makes a table of the lengths of codes by symbol (RFC 1951, section 3.2.2), with so many bits in the primary table. It reports
// false where the lengths make no code: one that is complete, or has one code of one bit, or none.
func build(table []uint32, primary uint, lengths []uint8, entry func(symbol int, code uint32) uint32) bool {
	var counts, next [longestCode + 1]uint32
	for _, n := range lengths {
		counts[n]++
	}
	counts[0] = 0
	longest, code := 0, uint32(0)
	for n := 1; n <= longestCode; n++ {
		code = (code + counts[n-1]) << 1
		next[n] = code
		if counts[n] > 0 {
			longest = n
		}
	}
	if longest > 0 {
		used := next[longest] + counts[longest]
		if used != 1<<longest && !(used == 1 && longest == 1) {
			return false
		}
	}
	main := table[:1<<primary]
	for i := range main {
		main[i] = isOther | isNone
	}
	var deepest [1 << litBits]uint8 // of the codes that begin with so many bits, the longest
	codes := next
	if longest > int(primary) {
		for _, n := range lengths {
			if n == 0 {
				continue
			}
			c := bits.Reverse32(codes[n]) >> (32 - n)
			codes[n]++
			if uint(n) > primary {
				at := c & (1<<primary - 1)
				deepest[at] = max(deepest[at], n)
			}
		}
	}
	end := 1 << primary
	for symbol, n := range lengths {
		if n == 0 {
			continue
		}
		c := bits.Reverse32(next[n]) >> (32 - n)
		next[n]++
		e := entry(symbol, uint32(n))
		if uint(n) <= primary {
			for at := c; at < 1<<primary; at += 1 << n {
				main[at] = e
			}
			continue
		}
		at := c & (1<<primary - 1)
		more := uint(deepest[at]) - primary
		if main[at] == isOther|isNone {
			main[at] = isOther | uint32(end)<<baseShift | uint32(more)<<codeShift
			for i := range 1 << more {
				table[end+i] = isOther | isNone
			}
			end += 1 << more
		}
		start := main[at] >> baseShift & baseMask
		for i := c >> primary; i < 1<<more; i += 1 << (uint(n) - primary) {
			table[start+i] = e
		}
	}
	return true
}

// pair has the primary table give two bytes at once where the codes of both are in the bits that it is looked up by.
func (t *litTable) pair() {
	for at := 1<<litBits - 1; at >= 0; at-- {
		e := t[at]
		if e&isLiteral == 0 {
			continue
		}
		first := e & takenMask
		// What stands there was not made a pair yet: it comes before.
		other := t[at>>first]
		if second := other & takenMask; other&(isLiteral|isPair) == isLiteral && first+second <= litBits && at>>first < at {
			t[at] = isLiteral | isPair | e&0xff00 | other&0xff00<<8 | first + second
		}
	}
}
