package remote

import (
	"bytes"
	"cmp"
	"io"
	"slices"
	"sync/atomic"

	"trevak/internal/storage"
)

// Parts of an object grow with their number, since there may be 10,000 of them and an object may have 5 TiB.
const (
	firstParts   = 500
	leastPart    = 8 << 20
	largestPart  = 512 << 20
	inMemoryPart = leastPart
)

// partBytes is the size of a part by its number.
func partBytes(number int) int64 { return min(int64(leastPart)<<((number-1)/firstParts), largestPart) }

func sortParts(parts []Sent) {
	slices.SortFunc(parts, func(a, b Sent) int { return cmp.Compare(a.Number, b.Number) })
}

// partRoom is the memory that parts share which wait to be sent. Parts for which there is none wait in temporary files.
type partRoom struct{ left atomic.Int64 }

func newPartRoom(bytes int64) *partRoom {
	r := &partRoom{}
	r.left.Store(bytes)
	return r
}

// part is bytes of an object that are sent together.
type part struct {
	limit   int64
	n       int64
	memory  []byte
	taken   int64
	scratch *storage.Scratch
	room    *partRoom
}

// take makes an empty part of up to so many bytes. Most parts stay far smaller; memory is taken as they grow.
func (r *partRoom) take(limit int64) (*part, error) { return &part{limit: limit, room: r}, nil }

func (p *part) full() bool  { return p.n == p.limit }
func (p *part) size() int64 { return p.n }

// firstGrowth is how much memory a part takes first; it doubles as it grows.
const firstGrowth = 4 << 10

// write takes as many bytes as there is place for.
func (p *part) write(b []byte) (int, error) {
	b = b[:min(int64(len(b)), p.limit-p.n)]
	if p.scratch == nil && !p.grow(int64(len(b))) {
		if err := p.spill(); err != nil {
			return 0, err
		}
	}
	if p.scratch != nil {
		n, err := p.scratch.Write(b)
		p.n += int64(n)
		return n, err
	}
	p.memory = append(p.memory, b...)
	p.n += int64(len(b))
	return len(b), nil
}

// grow makes memory for n bytes more, and reports whether there is some.
func (p *part) grow(n int64) bool {
	if p.n+n <= int64(cap(p.memory)) {
		return true
	}
	size := min(max(2*p.taken, p.n+n, firstGrowth), p.limit)
	if size > inMemoryPart || p.room.left.Add(p.taken-size) < 0 {
		if size <= inMemoryPart {
			p.room.left.Add(size - p.taken)
		}
		return false
	}
	p.taken = size
	grown := make([]byte, p.n, size)
	copy(grown, p.memory)
	p.memory = grown
	return true
}

// spill goes over to a temporary file.
func (p *part) spill() (err error) {
	if p.scratch, err = storage.NewScratch(""); err != nil {
		return err
	}
	_, err = p.scratch.Write(p.memory)
	p.giveBack()
	return err
}

func (p *part) giveBack() {
	p.room.left.Add(p.taken)
	p.memory, p.taken = nil, 0
}

// reader reads the part.
func (p *part) reader() io.ReaderAt {
	if p.scratch != nil {
		return p.scratch
	}
	return bytes.NewReader(p.memory)
}

// close gives up what the part takes.
func (p *part) close() {
	p.giveBack()
	if p.scratch != nil {
		p.scratch.Close()
		p.scratch = nil
	}
}
