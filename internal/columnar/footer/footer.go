// Package footer writes what describes a Parquet file within it: the headers of pages, the page index and the footer.
//
// What comes in are structures that have the names and units of the Parquet format's own definition (parquet.thrift); what
// goes out are their bytes in Thrift's compact protocol.
package footer

// Encodings and codecs are numbers of the format's own enumerations, and so are physical types.

// Statistics are those of a page or a column chunk. Min and Max are in plain encoding; nil where there are none.
type Statistics struct {
	Min, Max []byte
	Nulls    int64
}

// append writes the statistics as a field, if there are any. The extremes go by the order of the column's type, so the older
// fields for them, which had none, are left out.
func (s *Statistics) append(c *compact, id int) {
	if s == nil {
		return
	}
	c.openField(id)
	c.i64(3, s.Nulls)
	if s.Max != nil {
		c.binary(5, s.Max)
	}
	if s.Min != nil {
		c.binary(6, s.Min)
	}
	c.close()
}

// The types of pages.
const (
	dataPage       = 0
	dictionaryPage = 2
	dataPageV2     = 3
)

// rle is the encoding of levels.
const rle = 3

// PageHeader is what stands before a data page.
type PageHeader struct {
	// Raw and Packed are the sizes of the page in bytes before and after compression.
	Raw, Packed int32
	// Values counts the entries of the page, Rows the rows that begin in it.
	Values, Rows int32
	Encoding     int32
	// Statistics are nil where they stand in a page index.
	Statistics *Statistics
	// Second makes a page of version 2, whose levels are of so many bytes and not compressed; Compressed says that the values are.
	Second                    bool
	Nulls, DefBytes, RepBytes int32
	Compressed                bool
}

// Append writes the header.
func (h *PageHeader) Append(dst []byte) []byte {
	c := compact{b: dst}
	c.open()
	if h.Second {
		c.i32(1, dataPageV2)
	} else {
		c.i32(1, dataPage)
	}
	c.i32(2, h.Raw)
	c.i32(3, h.Packed)
	if h.Second {
		c.openField(8)
		c.i32(1, h.Values)
		c.i32(2, h.Nulls)
		c.i32(3, h.Rows)
		c.i32(4, h.Encoding)
		c.i32(5, h.DefBytes)
		c.i32(6, h.RepBytes)
		c.flag(7, h.Compressed)
		h.Statistics.append(&c, 8)
	} else {
		c.openField(5)
		c.i32(1, h.Values)
		c.i32(2, h.Encoding)
		c.i32(3, rle)
		c.i32(4, rle)
		h.Statistics.append(&c, 5)
	}
	c.close()
	c.close()
	return c.b
}

// DictionaryHeader writes what stands before a dictionary page of so many values.
func DictionaryHeader(dst []byte, raw, packed, values, encoding int32) []byte {
	c := compact{b: dst}
	c.open()
	c.i32(1, dictionaryPage)
	c.i32(2, raw)
	c.i32(3, packed)
	c.openField(7)
	c.i32(1, values)
	c.i32(2, encoding)
	c.close()
	c.close()
	return c.b
}

// Column is what all chunks of a leaf column share.
type Column struct {
	Type, Codec int32
	// Path are the names from the outermost column on.
	Path []string
}

// PageCount is how many data pages, or with Dictionary set dictionary pages, of a chunk have an encoding.
type PageCount struct {
	Dictionary bool
	Encoding   int32
	Count      int32
}

// Chunk describes a column chunk. Offsets are from the beginning of the file, 0 for what is not there.
type Chunk struct {
	Encodings  []int32
	Pages      []PageCount
	Values     int64
	Raw        int64 // bytes of pages before compression, with their headers
	Packed     int64 // bytes of pages as they are, with their headers
	Data       int64 // where the first data page is
	Dictionary int64 // where the dictionary page is
	Statistics Statistics

	BloomOffset       int64
	BloomBytes        int32
	IndexOffset       int64 // of the column index
	IndexBytes        int32
	OffsetIndexOffset int64
	OffsetIndexBytes  int32
}

// Start is where the chunk begins.
func (k *Chunk) Start() int64 {
	if k.Dictionary > 0 {
		return k.Dictionary
	}
	return k.Data
}

func (k *Chunk) append(c *compact, column *Column) {
	c.open()
	c.i64(2, k.Start())
	c.openField(3)
	c.i32(1, column.Type)
	c.list(2, typeI32, len(k.Encodings))
	for _, e := range k.Encodings {
		c.whole(int64(e))
	}
	c.list(3, typeBinary, len(column.Path))
	for _, name := range column.Path {
		c.text([]byte(name))
	}
	c.i32(4, column.Codec)
	c.i64(5, k.Values)
	c.i64(6, k.Raw)
	c.i64(7, k.Packed)
	c.i64(9, k.Data)
	if k.Dictionary > 0 {
		c.i64(11, k.Dictionary)
	}
	k.Statistics.append(c, 12)
	c.list(13, typeStruct, len(k.Pages))
	for _, p := range k.Pages {
		c.open()
		if p.Dictionary {
			c.i32(1, dictionaryPage)
		} else {
			c.i32(1, dataPage)
		}
		c.i32(2, p.Encoding)
		c.i32(3, p.Count)
		c.close()
	}
	if k.BloomBytes > 0 {
		c.i64(14, k.BloomOffset)
		c.i32(15, k.BloomBytes)
	}
	c.close()
	if k.IndexBytes > 0 {
		c.i64(4, k.OffsetIndexOffset)
		c.i32(5, k.OffsetIndexBytes)
		c.i64(6, k.IndexOffset)
		c.i32(7, k.IndexBytes)
	}
	c.close()
}

// RowGroup describes a row group by its chunks, one for each leaf column.
type RowGroup struct {
	Rows   int64
	Chunks []Chunk
}

func (g *RowGroup) append(c *compact, columns []Column, ordinal int) {
	var raw, packed int64
	c.open()
	c.list(1, typeStruct, len(g.Chunks))
	for i := range g.Chunks {
		g.Chunks[i].append(c, &columns[i])
		raw += g.Chunks[i].Raw
		packed += g.Chunks[i].Packed
	}
	c.i64(2, raw)
	c.i64(3, g.Rows)
	if len(g.Chunks) > 0 {
		c.i64(5, g.Chunks[0].Start())
	}
	c.i64(6, packed)
	if ordinal <= 1<<15-1 {
		c.i16(7, int16(ordinal))
	}
	c.close()
}

// File describes a file.
type File struct {
	Columns []Column
	// Schema is the elements of the schema, the root first, each a struct in the compact protocol, and Elements how many.
	Schema   []byte
	Elements int
	Groups   []RowGroup
	// Notes are keys and values beside the schema.
	Notes     [][2]string
	CreatedBy string
}

// Rows is how many rows the file has.
func (f *File) Rows() (n int64) {
	for i := range f.Groups {
		n += f.Groups[i].Rows
	}
	return n
}

// formatVersion is the one that has all logical types.
const formatVersion = 2

// Append writes the footer, without its length and what ends the file.
func (f *File) Append(dst []byte) []byte {
	c := compact{b: dst}
	c.open()
	c.i32(1, formatVersion)
	c.list(2, typeStruct, f.Elements)
	c.b = append(c.b, f.Schema...)
	c.i64(3, f.Rows())
	c.list(4, typeStruct, len(f.Groups))
	for i := range f.Groups {
		f.Groups[i].append(&c, f.Columns, i)
	}
	if len(f.Notes) > 0 {
		c.list(5, typeStruct, len(f.Notes))
		for _, note := range f.Notes {
			c.open()
			c.binary(1, []byte(note[0]))
			c.binary(2, []byte(note[1]))
			c.close()
		}
	}
	c.binary(6, []byte(f.CreatedBy))
	c.list(7, typeStruct, len(f.Columns))
	for range f.Columns {
		// Each is in the order of its type.
		c.open()
		c.openField(1)
		c.close()
		c.close()
	}
	c.close()
	return c.b
}
