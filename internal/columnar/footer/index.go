package footer

// Page is what the page index tells of a data page.
type Page struct {
	// Offset is where its header begins, Bytes its size with that, and FirstRow the first row of it within the row group.
	Offset   int64
	Bytes    int32
	FirstRow int64
	// Absent says that it has no values that are there.
	Absent     bool
	Statistics Statistics
}

// Order is how the pages of a column chunk follow one another.
type Order int32

// The orders of pages, by their extremes.
const (
	Unordered  Order = 0
	Ascending  Order = 1
	Descending Order = 2
)

// OffsetIndex writes where the pages of a column chunk are.
func OffsetIndex(dst []byte, pages []Page) []byte {
	c := compact{b: dst}
	c.open()
	c.list(1, typeStruct, len(pages))
	for i := range pages {
		c.open()
		c.i64(1, pages[i].Offset)
		c.i32(2, pages[i].Bytes)
		c.i64(3, pages[i].FirstRow)
		c.close()
	}
	c.close()
	return c.b
}

// Indexed reports whether a column index can be written of pages: each that has values must have bounds.
func Indexed(pages []Page) bool {
	for i := range pages {
		if p := &pages[i]; !p.Absent && (p.Statistics.Min == nil || p.Statistics.Max == nil) {
			return false
		}
	}
	return true
}

// ColumnIndex writes the bounds of the pages of a column chunk.
func ColumnIndex(dst []byte, pages []Page, order Order) []byte {
	c := compact{b: dst}
	c.open()
	c.list(1, typeTrue, len(pages))
	for i := range pages {
		if pages[i].Absent {
			c.b = append(c.b, typeTrue)
		} else {
			c.b = append(c.b, typeFalse)
		}
	}
	c.list(2, typeBinary, len(pages))
	for i := range pages {
		c.text(pages[i].Statistics.Min)
	}
	c.list(3, typeBinary, len(pages))
	for i := range pages {
		c.text(pages[i].Statistics.Max)
	}
	c.i32(4, int32(order))
	c.list(5, typeI64, len(pages))
	for i := range pages {
		c.whole(pages[i].Statistics.Nulls)
	}
	c.close()
	return c.b
}
