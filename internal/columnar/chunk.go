package columnar

import (
	"encoding/binary"
	"slices"
	"sync"

	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/columnar/encode"
	"trevak/internal/columnar/footer"
)

// A page ends after the batch that brings it to so many rows or bytes. Rows are never split between pages.
const (
	pageRows  = 20_000
	pageBytes = 1 << 20
)

// chunk collects one leaf column of the open row group: pages that are finished and compressed, and one that is open.
type chunk struct {
	column *schema.Column
	values values
	codec  Codec
	flat   bool   // the column has no parts, so that a bit says all of its levels
	second bool   // data pages are of version 2
	bloom  *bloom // nil where there is none
	pages  []page
	size   int64 // of the finished pages, compressed

	entries  int           // levels in the open page
	def, rep []uint16      // of the open page
	valid    encode.Bitmap // in the place of def, in a column without parts
	absent   bool          // a value of it is not there; def and valid are empty otherwise
	rows     int           // that begin in the open page
	firstRow int64         // of the open page within the row group
	nulls    int64         // in the open page
	scratch  *scratch      // while a page is encoded
}

// page is a finished data page.
type page struct {
	data     []byte // compressed
	raw      int32  // size before compression
	entries  int32
	encoding parquet.Encoding
	firstRow int64
	stats    footer.Statistics
	// rows begin in the page; def and rep are the sizes of its levels, which stand before the values, not compressed, in version 2.
	rows     int32
	def, rep int32
}

// add takes the values of a batch.
func (c *chunk) add(l leaf) error {
	c.levels(l)
	c.values.add(l)
	if c.bloom != nil {
		c.bloom.add(l)
	}
	if c.rows >= pageRows || c.values.pending() >= pageBytes {
		return c.endPage()
	}
	return nil
}

// levels keeps a batch's levels for the open page.
func (c *chunk) levels(l leaf) {
	if c.flat {
		c.bits(l)
		return
	}
	most := uint16(c.column.MaxDefinitionLevel())
	if l.def != nil || c.absent {
		if !c.absent {
			c.def, c.absent = fill(c.def[:0], most, c.entries), true
		}
		if l.def != nil {
			c.def = append(room(c.def, len(l.def)), l.def...)
		} else {
			c.def = fill(c.def, most, l.entries)
		}
	}
	for _, d := range l.def {
		if d < most {
			c.nulls++
		}
	}
	c.entries += l.entries
	if l.rep == nil {
		c.rows += l.entries
		return
	}
	c.rep = append(room(c.rep, len(l.rep)), l.rep...)
	for _, r := range l.rep {
		if r == 0 {
			c.rows++
		}
	}
}

// bits is levels for a column without parts.
func (c *chunk) bits(l leaf) {
	if l.valid != nil && !c.absent {
		c.absent = true
		c.valid.AppendOnes(c.entries)
	}
	if known := c.valid.Ones; l.valid != nil {
		c.valid.Append(l.valid, l.offset, l.entries)
		c.nulls += int64(l.entries - (c.valid.Ones - known))
	} else if c.absent {
		c.valid.AppendOnes(l.entries)
	}
	c.entries += l.entries
	c.rows += l.entries
}

// fill appends a level n times.
func fill(levels []uint16, level uint16, n int) []uint16 {
	levels = room(levels, n)
	for range n {
		levels = append(levels, level)
	}
	return levels
}

// room makes room for n more values of a page. A page that has got some way will be whole, as a rule, so that it is not moved
// again and again.
func room[T any](list []T, n int) []T {
	const some = 2 << 10
	want := len(list) + n
	if want <= cap(list) {
		return list
	}
	if want > some {
		want = max(want, pageRows+pageRows/2)
	}
	return slices.Grow(list, want-len(list))
}

// endPage encodes and compresses the open page.
func (c *chunk) endPage() error {
	if c.entries == 0 {
		return nil
	}
	c.scratch = scratches.Get().(*scratch)
	defer func() {
		scratches.Put(c.scratch)
		c.scratch = nil
	}()
	rep, def := c.encodeLevels()
	values, encoding, r := c.values.page(c.scratch.values)
	c.scratch.values = values
	data, err := c.packed(rep+def, values)
	if err != nil {
		return err
	}
	p := page{data: data, raw: int32(len(c.scratch.body)), entries: int32(c.entries), encoding: encoding, firstRow: c.firstRow,
		rows: int32(c.rows), def: int32(def), rep: int32(rep), stats: footer.Statistics{Min: r.low, Max: r.high, Nulls: c.nulls}}
	c.pages = append(c.pages, p)
	c.size += int64(len(data))
	c.firstRow += int64(c.rows)
	c.entries, c.rows, c.nulls, c.absent, c.def, c.rep = 0, 0, 0, false, c.def[:0], c.rep[:0]
	c.valid.Reset()
	return nil
}

// scratch is memory for encoding one page: its values, them with their levels, and both compressed. There are as many as pages
// are encoded at a time.
type scratch struct{ values, body, packed []byte }

var scratches = sync.Pool{New: func() any { return new(scratch) }}

// encodeLevels begins the body of a page with its levels, and returns how many bytes they take. In version 1 their lengths
// stand before them.
func (c *chunk) encodeLevels() (rep, def int) {
	body := c.scratch.body[:0]
	wrap := prefixed
	if c.second {
		wrap = func(dst []byte, encode func([]byte) []byte) []byte { return encode(dst) }
	}
	if most := c.column.MaxRepetitionLevel(); most > 0 {
		body = wrap(body, func(b []byte) []byte { return encode.Hybrid(b, c.rep, encode.Width(int(most))) })
	}
	rep = len(body)
	if most := c.column.MaxDefinitionLevel(); most > 0 {
		body = wrap(body, func(b []byte) []byte {
			if !c.absent {
				return encode.Run(b, uint32(most), c.entries, encode.Width(int(most)))
			}
			if c.flat {
				return encode.HybridBits(b, &c.valid)
			}
			return encode.Hybrid(b, c.def, encode.Width(int(most)))
		})
	}
	c.scratch.body = body
	return rep, len(body) - rep
}

// packed adds the values to the levels and compresses the page; in version 2 the levels stay as they are.
func (c *chunk) packed(levels int, values []byte) (data []byte, err error) {
	s := c.scratch
	s.body = append(s.body, values...)
	if !c.second {
		levels = 0
	}
	s.packed, err = c.codec.compress(s.packed, s.body[levels:])
	if levels > 0 {
		return slices.Concat(s.body[:levels], s.packed), err
	}
	// Unlike what is made, a clone is not cleared first.
	return slices.Clone(s.packed), err
}

// prefixed appends what encode appends, with its length in four bytes before it.
func prefixed(dst []byte, encode func([]byte) []byte) []byte {
	at := len(dst)
	dst = encode(append(dst, 0, 0, 0, 0))
	binary.LittleEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}

// pending returns how many bytes the chunk holds in memory.
func (c *chunk) pending() int64 {
	return c.size + int64(c.values.pending()) + 2*int64(len(c.def)+len(c.rep)) + int64(len(c.valid.Bytes))
}

// renew begins another file.
func (c *chunk) renew() {
	c.pages, c.size, c.firstRow = nil, 0, 0
	c.entries, c.rows, c.nulls, c.absent, c.def, c.rep = 0, 0, 0, false, c.def[:0], c.rep[:0]
	c.valid.Reset()
	c.values.renew()
}
