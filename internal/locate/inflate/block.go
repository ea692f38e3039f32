package inflate

import "encoding/binary"

// The fast loop runs while there are so many bytes ahead in the input, and so much room for output: it reads 8 bytes at a time and
// writes up to three pairs and a match, which is copied 16 bytes at a time.
const (
	inAhead  = 24
	outAhead = 6 + longestMatch + 32
)

const longestMatch = 258

// fast decodes what a block has, as long as there is much ahead. It reports whether the block has ended.
func (d *Reader) fast() (ended bool, err error) {
	in, out := d.in[:d.end], d.out
	pos, w, b, n := d.pos, d.w, d.b, d.n
	lit, dist := d.lit, d.dist
decoding:
	for pos+inAhead <= len(in) && w+outAhead <= len(out) {
		b |= binary.LittleEndian.Uint64(in[pos:]) << (n & 63)
		pos += int((63 - n) >> 3)
		n |= 56
		e := lit[b&(1<<litBits-1)]
		if e&isLiteral != 0 {
			binary.LittleEndian.PutUint16(out[w:], uint16(e>>8))
			w += 1 + int(e>>30&1)
			b >>= e & takenMask
			n -= uint(e & takenMask)
			if e = lit[b&(1<<litBits-1)]; e&isLiteral != 0 {
				binary.LittleEndian.PutUint16(out[w:], uint16(e>>8))
				w += 1 + int(e>>30&1)
				b >>= e & takenMask
				n -= uint(e & takenMask)
				if e = lit[b&(1<<litBits-1)]; e&isLiteral != 0 {
					binary.LittleEndian.PutUint16(out[w:], uint16(e>>8))
					w += 1 + int(e>>30&1)
					b >>= e & takenMask
					n -= uint(e & takenMask)
					continue
				}
			}
		}
		if e&isOther != 0 {
			if e&(isEnd|isNone) == 0 {
				e = lit[(e>>baseShift&baseMask+uint32(b>>litBits)&(1<<(e>>codeShift&codeMask)-1))%litEntries]
			}
			switch {
			case e&isLiteral != 0:
				out[w] = byte(e >> 8)
				w++
				b >>= e & takenMask
				n -= uint(e & takenMask)
				continue
			case e&isEnd != 0:
				b >>= e & takenMask
				n -= uint(e & takenMask)
				ended = true
				break decoding
			case e&isNone != 0:
				err = errDamaged
				break decoding
			}
		}
		taken := e & takenMask
		length := int(e>>baseShift&baseMask) + int(b&(1<<taken-1)>>(e>>codeShift&codeMask))
		b >>= taken
		n -= uint(taken)
		if n < 28 {
			b |= binary.LittleEndian.Uint64(in[pos:]) << (n & 63)
			pos += int((63 - n) >> 3)
			n |= 56
		}
		e = dist[b&(1<<distBits-1)]
		if e&isOther != 0 {
			if e&isNone != 0 {
				err = errDamaged
				break decoding
			}
			e = dist[(e>>baseShift&baseMask+uint32(b>>distBits)&(1<<(e>>codeShift&codeMask)-1))%distEntries]
			if e&isOther != 0 {
				err = errDamaged
				break decoding
			}
		}
		taken = e & takenMask
		distance := int(e>>baseShift&baseMask) + int(b&(1<<taken-1)>>(e>>codeShift&codeMask))
		b >>= taken
		n -= uint(taken)
		if distance > w-d.begins {
			err = errDamaged
			break decoding
		}
		from := w - distance
		end := w + length
		if distance >= 16 {
			for w < end {
				copy16(out[w:w+16], out[from:from+16])
				w += 16
				from += 16
			}
			w = end
			continue
		}
		repeat(out[:end], w, distance)
		w = end
	}
	d.pos, d.w, d.b, d.n = pos, w, b, n
	return ended, err
}

// copy16 copies 16 bytes that do not overlap.
func copy16(to, from []byte) {
	a, b := binary.LittleEndian.Uint64(from), binary.LittleEndian.Uint64(from[8:])
	binary.LittleEndian.PutUint64(to, a)
	binary.LittleEndian.PutUint64(to[8:], b)
}

// repeat fills a list from a place on with what stands so far before it, again and again.
func repeat(out []byte, at, distance int) {
	for at < len(out) {
		at += copy(out[at:], out[at-distance:at])
		// What was written repeats in the same way, and is longer.
		distance *= 2
	}
}

// slow decodes one code with what follows it, wherever the input ends.
func (d *Reader) slow() (ended bool, err error) {
	d.bits(longestCode + 5)
	e := d.lit[d.b&(1<<litBits-1)]
	if e&isOther != 0 && e&(isEnd|isNone) == 0 {
		e = d.lit[(e>>baseShift&baseMask+uint32(d.b>>litBits)&(1<<(e>>codeShift&codeMask)-1))%litEntries]
	}
	code := e & takenMask
	if e&(isLiteral|isPair) == isLiteral|isPair && uint(code) > d.n {
		// The last bits may hold the first byte of a pair alone, which is rare enough to be told by its own code.
		return false, d.single(byte(e >> 8))
	}
	if uint(code) > d.n {
		return false, d.short()
	}
	b := d.b
	d.b >>= code
	d.n -= uint(code)
	switch {
	case e&isLiteral != 0:
		d.out[d.w] = byte(e >> 8)
		d.w++
		if e&isPair != 0 {
			d.out[d.w] = byte(e >> 16)
			d.w++
		}
		return false, nil
	case e&isEnd != 0:
		return true, nil
	case e&isNone != 0:
		return false, d.damagedOr(longestCode)
	}
	length := int(e>>baseShift&baseMask) + int(b&(1<<code-1)>>(e>>codeShift&codeMask))
	d.bits(longestCode + 13)
	e = d.dist[d.b&(1<<distBits-1)]
	if e&isOther != 0 && e&isNone == 0 {
		e = d.dist[(e>>baseShift&baseMask+uint32(d.b>>distBits)&(1<<(e>>codeShift&codeMask)-1))%distEntries]
	}
	if e&isOther != 0 {
		return false, d.damagedOr(longestCode)
	}
	code = e & takenMask
	if uint(code) > d.n {
		return false, d.short()
	}
	distance := int(e>>baseShift&baseMask) + int(d.b&(1<<code-1)>>(e>>codeShift&codeMask))
	d.b >>= code
	d.n -= uint(code)
	if distance > d.w-d.begins {
		return false, errDamaged
	}
	repeat(d.out[:d.w+length], d.w, distance)
	d.w += length
	return false, nil
}

// single takes a byte whose code is shorter than the bits that are left, though those of the pair it begins are not.
func (d *Reader) single(c byte) error {
	size := uint(d.lengths[c])
	if size > d.n {
		return d.short()
	}
	d.out[d.w] = c
	d.w++
	d.b >>= size
	d.n -= size
	return nil
}
