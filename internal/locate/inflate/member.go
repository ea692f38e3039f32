package inflate

import (
	"hash/crc32"
	"io"
	"sync"
)

// fixed are the codes of blocks that state none (RFC 1951, section 3.2.6).
var fixed struct {
	lit     litTable
	dist    distTable
	lengths [288]uint8
}

var fixedOnce = sync.OnceFunc(func() {
	for symbol := range fixed.lengths {
		switch {
		case symbol < 144:
			fixed.lengths[symbol] = 8
		case symbol < 256:
			fixed.lengths[symbol] = 9
		case symbol < 280:
			fixed.lengths[symbol] = 7
		default:
			fixed.lengths[symbol] = 8
		}
	}
	var distances [32]uint8
	for i := range distances {
		distances[i] = 5
	}
	build(fixed.lit[:], litBits, fixed.lengths[:], litEntry)
	build(fixed.dist[:], distBits, distances[:], distEntry)
	fixed.lit.pair()
})

// Flags of a member's header (RFC 1952, section 2.3.1).
const (
	hasSum     = 1 << 1
	hasExtra   = 1 << 2
	hasName    = 1 << 3
	hasComment = 1 << 4
)

// deflated is the only method of compression that there is.
const deflated = 8

// header reads bytes of a member's header, and sums them.
type header struct {
	d   *Reader
	sum uint32
	err error
}

func (h *header) byte() byte {
	if h.err != nil {
		return 0
	}
	v, err := h.d.take(8)
	h.err = err
	b := [1]byte{byte(v)}
	h.sum = crc32.Update(h.sum, crc32.IEEETable, b[:])
	return b[0]
}

func (h *header) text() {
	for h.byte() != 0 && h.err == nil {
	}
}

// member reads the header of a member. The error is io.EOF where there is none behind the last.
func (d *Reader) member() error {
	if d.bits(8); d.n < 8 && !d.first {
		if err := d.short(); err != io.ErrUnexpectedEOF {
			return err
		}
		return io.EOF
	}
	h := header{d: d}
	one, two, method, flags := h.byte(), h.byte(), h.byte(), h.byte()
	if h.err == nil && (one != 0x1f || two != 0x8b || method != deflated) {
		return errDamaged
	}
	for range 6 {
		h.byte()
	}
	if flags&hasExtra != 0 {
		for range int(h.byte()) | int(h.byte())<<8 {
			h.byte()
		}
	}
	if flags&hasName != 0 {
		h.text()
	}
	if flags&hasComment != 0 {
		h.text()
	}
	if flags&hasSum != 0 {
		sum := uint16(h.sum)
		if got := uint16(h.byte()) | uint16(h.byte())<<8; h.err == nil && got != sum {
			return errDamaged
		}
	}
	if h.err != nil {
		return h.err
	}
	d.first, d.crc, d.size, d.begins, d.stage = false, 0, 0, d.w, atBlock
	return nil
}

// trailer holds a member against its checksum and size.
func (d *Reader) trailer() error {
	d.b >>= d.n & 7
	d.n &^= 7
	crc, err := d.take(32)
	if err != nil {
		return err
	}
	size, err := d.take(32)
	if err != nil {
		return err
	}
	if crc != d.crc || size != d.size {
		return errDamaged
	}
	d.stage = atMember
	return nil
}
