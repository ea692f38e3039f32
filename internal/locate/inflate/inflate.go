// Package inflate unpacks gzip streams (RFC 1952, RFC 1951).
//
// What comes in is a stream of one or more members; what goes out are their bytes one after the other, each member held against the
// checksum and the size that it ends with.
package inflate

import (
	"errors"
	"hash/crc32"
	"io"
)

// errDamaged says that a stream is none, or does not hold what it should; io.ErrUnexpectedEOF that it is cut short.
var errDamaged = errors.New("gzip data is damaged")

// Sizes of the buffers: what was unpacked stays for windowBytes, as matches may go back so far.
const (
	inBytes     = 128 << 10
	windowBytes = 32 << 10
	outBytes    = windowBytes + 192<<10
)

// stage is where a Reader stands in a member.
type stage uint8

const (
	atMember stage = iota
	atBlock
	inStored
	inCodes
	atTrailer
)

// Reader unpacks a stream. It is not safe for concurrent use.
type Reader struct {
	r        io.Reader
	in       []byte
	pos, end int
	readErr  error // of r, once it has ended

	b uint64 // bits that were taken out of in, the next lowest, and how many
	n uint

	out    []byte
	begins int // of the member in out, at most windowBytes before w
	given  int
	w      int

	stage   stage
	first   bool // no member was begun
	last    bool // the block is the last
	stored  int  // bytes to come of a stored block
	lit     *litTable
	dist    *distTable
	lengths []uint8 // of the codes of literals of the block
	own     struct {
		lit     litTable
		dist    distTable
		lengths [320]uint8
	}
	crc  uint32
	size uint32
	err  error
}

// NewReader reads the header of the first member.
func NewReader(r io.Reader) (*Reader, error) {
	d := &Reader{r: r, in: make([]byte, inBytes), out: make([]byte, outBytes), first: true}
	if err := d.member(); err != nil {
		return nil, err
	}
	return d, nil
}

// Close does nothing.
func (d *Reader) Close() error { return nil }

func (d *Reader) Read(p []byte) (int, error) {
	for d.given == d.w {
		if d.err != nil {
			return 0, d.err
		}
		d.more()
	}
	n := copy(p, d.out[d.given:d.w])
	d.given += n
	return n, nil
}

// more unpacks until there is no room, or an end.
func (d *Reader) more() {
	if kept := min(d.w, windowBytes); kept < d.w {
		copy(d.out, d.out[d.w-kept:d.w])
		d.begins = max(0, d.begins-(d.w-kept))
		d.w, d.given = kept, kept
	}
	from := d.w
	checked := func() {
		d.crc = crc32.Update(d.crc, crc32.IEEETable, d.out[from:d.w])
		d.size += uint32(d.w - from)
		from = d.w
	}
	for d.err == nil && d.w+outAhead <= len(d.out) {
		switch d.stage {
		case atMember:
			d.err = d.member()
		case atBlock:
			d.err = d.block()
		case inStored:
			d.err = d.copyStored()
		case inCodes:
			var ended bool
			if ended, d.err = d.fast(); !ended && d.err == nil && d.w+outAhead <= len(d.out) {
				ended, d.err = d.slow()
			}
			if ended {
				d.endBlock()
			}
		case atTrailer:
			checked()
			d.err = d.trailer()
			if d.w > d.given {
				return
			}
		}
	}
	checked()
}

func (d *Reader) endBlock() {
	d.stage = atBlock
	if d.last {
		d.stage = atTrailer
	}
}

// fill reads more input behind what is left, and reports whether there is any.
func (d *Reader) fill() bool {
	if d.pos > 0 {
		copy(d.in, d.in[d.pos:d.end])
		d.pos, d.end = 0, d.end-d.pos
	}
	for d.readErr == nil && d.end < len(d.in) {
		n, err := d.r.Read(d.in[d.end:])
		d.end += n
		d.readErr = err
		if n > 0 {
			return true
		}
	}
	return false
}

// bits has at least so many bits ready, as far as there are any.
func (d *Reader) bits(want uint) {
	for d.n < want {
		if d.pos == d.end && !d.fill() {
			return
		}
		d.b |= uint64(d.in[d.pos]) << d.n
		d.pos++
		d.n += 8
	}
}

// take takes so many bits, up to 32.
func (d *Reader) take(count uint) (uint32, error) {
	d.bits(count)
	if d.n < count {
		return 0, d.short()
	}
	v := uint32(d.b & (1<<count - 1))
	d.b >>= count
	d.n -= count
	return v, nil
}

// short is the error of input that has ended too early.
func (d *Reader) short() error {
	if d.readErr != nil && d.readErr != io.EOF {
		return d.readErr
	}
	return io.ErrUnexpectedEOF
}

// damagedOr is the error of bits that are no code, of which there should be so many for that to be known.
func (d *Reader) damagedOr(want uint) error {
	if d.n < want {
		return d.short()
	}
	return errDamaged
}

// block begins a block (RFC 1951, section 3.2.3).
func (d *Reader) block() error {
	head, err := d.take(3)
	if err != nil {
		return err
	}
	d.last = head&1 == 1
	switch head >> 1 {
	case 0:
		return d.beginStored()
	case 1:
		fixedOnce()
		d.lit, d.dist, d.lengths = &fixed.lit, &fixed.dist, fixed.lengths[:]
	case 2:
		if err := d.codes(); err != nil {
			return err
		}
	default:
		return errDamaged
	}
	d.stage = inCodes
	return nil
}

// beginStored reads how long a block without compression is (section 3.2.4).
func (d *Reader) beginStored() error {
	d.b >>= d.n & 7
	d.n &^= 7
	size, err := d.take(16)
	if err != nil {
		return err
	}
	inverse, err := d.take(16)
	if err != nil {
		return err
	}
	if size != ^inverse&0xffff {
		return errDamaged
	}
	d.stored, d.stage = int(size), inStored
	return nil
}

// copyStored copies of such a block.
func (d *Reader) copyStored() error {
	for d.stored > 0 && d.n >= 8 && d.w < len(d.out)-outAhead {
		d.out[d.w] = byte(d.b)
		d.w++
		d.b >>= 8
		d.n -= 8
		d.stored--
	}
	if d.stored > 0 && d.n < 8 {
		// What stands above the bits that count are bytes that are taken now.
		d.b, d.n = 0, 0
		if d.pos == d.end && !d.fill() {
			return d.short()
		}
		n := copy(d.out[d.w:], d.in[d.pos:min(d.end, d.pos+d.stored)])
		d.w += n
		d.pos += n
		d.stored -= n
	}
	if d.stored == 0 {
		d.endBlock()
	}
	return nil
}

// codeOrder is the order in which the lengths of the codes of lengths stand (section 3.2.7).
var codeOrder = [...]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// codes reads the codes of a block.
func (d *Reader) codes() error {
	head, err := d.take(14)
	if err != nil {
		return err
	}
	literals, distances, count := int(head&31)+257, int(head>>5&31)+1, int(head>>10)+4
	if literals > 286 || distances > 30 {
		return errDamaged
	}
	var of [19]uint8
	for _, at := range codeOrder[:count] {
		n, err := d.take(3)
		if err != nil {
			return err
		}
		of[at] = uint8(n)
	}
	var table [1 << 7]uint32
	if !build(table[:], 7, of[:], func(symbol int, code uint32) uint32 { return uint32(symbol)<<codeShift | code }) {
		return errDamaged
	}
	lengths := d.own.lengths[:literals+distances]
	for at := 0; at < len(lengths); {
		d.bits(14)
		e := table[d.b&(1<<7-1)]
		size := uint(e & takenMask)
		if e&isNone != 0 {
			return d.damagedOr(7)
		}
		if size > d.n {
			return d.short()
		}
		d.b >>= size
		d.n -= size
		symbol := uint8(e >> codeShift)
		if symbol < 16 {
			lengths[at] = symbol
			at++
			continue
		}
		value, times, err := uint8(0), uint32(0), error(nil)
		switch symbol {
		case 16:
			if at == 0 {
				return errDamaged
			}
			value = lengths[at-1]
			times, err = d.take(2)
			times += 3
		case 17:
			times, err = d.take(3)
			times += 3
		default:
			times, err = d.take(7)
			times += 11
		}
		if err != nil {
			return err
		}
		if at+int(times) > len(lengths) {
			return errDamaged
		}
		for range times {
			lengths[at] = value
			at++
		}
	}
	if !build(d.own.lit[:], litBits, lengths[:literals], litEntry) || !build(d.own.dist[:], distBits, lengths[literals:], distEntry) {
		return errDamaged
	}
	d.own.lit.pair()
	d.lit, d.dist, d.lengths = &d.own.lit, &d.own.dist, lengths[:literals]
	return nil
}
