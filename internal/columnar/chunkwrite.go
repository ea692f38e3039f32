package columnar

import (
	"slices"

	"github.com/apache/arrow-go/v18/parquet"

	"trevak/internal/columnar/footer"
)

// write puts the chunk, whose last page was ended, into the file, the dictionary before the data pages, and begins the next row
// group. It returns what the footer and the page index tell of it. indexed says that there is such an index; header is memory
// for the headers of pages.
func (c *chunk) write(sink *countingWriter, indexed bool, header *[]byte) (footer.Chunk, []footer.Page, error) {
	out := footer.Chunk{Encodings: []int32{int32(parquet.Encodings.RLE)}, Statistics: c.statistics()}
	if err := c.writeDictionary(sink, header, &out); err != nil {
		return out, nil, err
	}
	out.Data = sink.n
	var pages []footer.Page
	if indexed {
		pages = make([]footer.Page, len(c.pages))
	}
	for i := range c.pages {
		p := &c.pages[i]
		h := footer.PageHeader{Raw: p.raw, Packed: int32(len(p.data)), Values: p.entries, Rows: p.rows, Encoding: int32(p.encoding),
			Second: c.second, Nulls: int32(p.stats.Nulls), DefBytes: p.def, RepBytes: p.rep, Compressed: c.codec.name() != "none"}
		if !indexed {
			h.Statistics = &p.stats
		}
		*header = h.Append((*header)[:0])
		at := sink.n
		if err := sink.put(*header, p.data); err != nil {
			return out, nil, err
		}
		if indexed {
			pages[i] = footer.Page{Offset: at, Bytes: int32(sink.n - at), FirstRow: p.firstRow, Absent: p.stats.Nulls == int64(p.entries),
				Statistics: p.stats}
		}
		note(&out, p.encoding)
		out.Values += int64(p.entries)
		out.Raw += int64(p.raw) + int64(len(*header))
		out.Packed += sink.n - at
	}
	if c.bloom != nil {
		var err error
		if out.BloomOffset, out.BloomBytes, err = c.bloom.write(sink); err != nil {
			return out, nil, err
		}
	}
	c.pages, c.size, c.firstRow = c.pages[:0], 0, 0
	c.values.reset()
	return out, pages, nil
}

// writeDictionary puts the dictionary page into the file, where there is one.
func (c *chunk) writeDictionary(sink *countingWriter, header *[]byte, out *footer.Chunk) error {
	body, n := c.values.dictionary()
	if n == 0 {
		return nil
	}
	s := scratches.Get().(*scratch)
	defer scratches.Put(s)
	var err error
	if s.packed, err = c.codec.compress(s.packed, body); err != nil {
		return err
	}
	plain := int32(parquet.Encodings.Plain)
	*header = footer.DictionaryHeader((*header)[:0], int32(len(body)), int32(len(s.packed)), int32(n), plain)
	out.Dictionary = sink.n
	out.Encodings = append(out.Encodings, plain)
	out.Pages = append(out.Pages, footer.PageCount{Dictionary: true, Encoding: plain, Count: 1})
	out.Raw = int64(len(body)) + int64(len(*header))
	out.Packed = int64(len(s.packed)) + int64(len(*header))
	return sink.put(*header, s.packed)
}

// note counts a data page of an encoding.
func note(out *footer.Chunk, e parquet.Encoding) {
	encoding := int32(e)
	if !slices.Contains(out.Encodings, encoding) {
		out.Encodings = append(out.Encodings, encoding)
	}
	for i := range out.Pages {
		if p := &out.Pages[i]; !p.Dictionary && p.Encoding == encoding {
			p.Count++
			return
		}
	}
	out.Pages = append(out.Pages, footer.PageCount{Encoding: encoding, Count: 1})
}

// statistics brings those of the pages together.
func (c *chunk) statistics() footer.Statistics {
	var out footer.Statistics
	for i := range c.pages {
		s := &c.pages[i].stats
		out.Nulls += s.Nulls
		if s.Min != nil && (out.Min == nil || less(c.column, s.Min, out.Min)) {
			out.Min = s.Min
		}
		if s.Max != nil && (out.Max == nil || less(c.column, out.Max, s.Max)) {
			out.Max = s.Max
		}
	}
	return out
}

// order tells how the pages follow one another by their bounds; those without a value have no say.
func (c *chunk) order(pages []footer.Page) footer.Order {
	rising, falling := true, true
	var last *footer.Statistics
	for i := range pages {
		p := &pages[i]
		if p.Absent {
			continue
		}
		if s := &p.Statistics; last != nil {
			rising = rising && !less(c.column, s.Min, last.Min) && !less(c.column, s.Max, last.Max)
			falling = falling && !less(c.column, last.Min, s.Min) && !less(c.column, last.Max, s.Max)
		}
		last = &p.Statistics
	}
	switch {
	case last == nil:
		return footer.Unordered
	case rising:
		return footer.Ascending
	case falling:
		return footer.Descending
	}
	return footer.Unordered
}
