package orc

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/magic"
	"trevak/internal/schema"
)

// Options says how a file is written.
type Options struct {
	// Codec is none, gzip (the format's zlib), snappy, lz4 or zstd; Level its level, 0 for its default.
	Codec string
	Level int
	// StripeRows and StripeBytes end a stripe, whichever is reached first; the bytes are those of encoded streams before
	// compression. Where they are 0, defaultRows and defaultBytes do.
	StripeRows, StripeBytes int64
	// Bloom are columns, by their legal paths, that get Bloom filters: whole numbers, dates, times, texts and bytes.
	Bloom []string
}

const (
	defaultRows  = 1 << 20
	defaultBytes = 64 << 20
)

// Writer writes one file. It keeps no more than a stripe in memory, and is not safe for concurrent use.
type Writer struct {
	sink    io.Writer
	offset  int64
	options Options
	packer  *packer
	root    *column
	columns []*column
	rows    int64 // in the open stripe
	total   int64
	stripes []message // of the footer: where they lie
	details []message // of the metadata: their statistics
	scratch []int32
}

// NewWriter begins a file. The caller closes w after Close.
func NewWriter(w io.Writer, s schema.Schema, o Options) (*Writer, error) {
	p, err := newPacker(o.Codec, o.Level)
	if err != nil {
		return nil, err
	}
	o.StripeRows, o.StripeBytes = cmp.Or(o.StripeRows, defaultRows), cmp.Or(o.StripeBytes, defaultBytes)
	id := 0
	out := &Writer{sink: w, options: o, packer: p,
		root: newColumn(schema.Field{Required: true, Type: schema.Type{Kind: schema.Struct, Fields: s.Fields}}, &id)}
	out.root.walk(func(c *column) { out.columns = append(out.columns, c) })
	id = 0
	s.Walk(func(path string, _ *schema.Field) {
		if id++; slices.Contains(o.Bloom, path) {
			out.columns[id].bloom = &bloom{}
		}
	})
	return out, out.write([]byte(magic.ORC))
}

func (w *Writer) write(p []byte) error {
	n, err := w.sink.Write(p)
	w.offset += int64(n)
	return err
}

// Write appends rows, whose columns must be those of the schema. After an error nothing more can be written.
func (w *Writer) Write(ctx context.Context, batch arrow.RecordBatch) error {
	whole := array.RecordToStructArray(batch)
	defer whole.Release()
	for at := int64(0); at < batch.NumRows(); {
		if err := ctx.Err(); err != nil {
			return err
		}
		if w.rows%stride == 0 {
			for _, c := range w.columns {
				c.mark()
			}
		}
		n := min(batch.NumRows()-at, stride-w.rows%stride, w.options.StripeRows-w.rows)
		w.scratch = w.scratch[:0]
		for i := range n {
			w.scratch = append(w.scratch, int32(at+i))
		}
		if err := w.root.add(whole, w.scratch); err != nil {
			return err
		}
		at, w.rows = at+n, w.rows+n
		if w.rows%stride == 0 {
			w.endGroup()
		}
		if w.rows >= w.options.StripeRows || w.Pending() >= w.options.StripeBytes {
			if err := w.EndStripe(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *Writer) endGroup() {
	for _, c := range w.columns {
		c.endGroup()
	}
}

// Pending is about how many bytes the open stripe takes in memory, Written how large the file is without it.
func (w *Writer) Pending() int64 {
	n := 0
	for _, c := range w.columns {
		n += c.size()
	}
	return int64(n)
}

// Written returns how many bytes were written.
func (w *Writer) Written() int64 { return w.offset }

// EndStripe writes the open stripe, if it has rows: the indexes of all columns, their streams, and the footer ("Stripes").
func (w *Writer) EndStripe() error {
	if w.rows == 0 {
		return nil
	}
	if w.rows%stride != 0 {
		w.endGroup()
	}
	var indexes, data [][]byte
	var list, footer, detail message
	var streams message
	for _, c := range w.columns {
		detail.bytes(1, c.stripe.encode(c.kind, c.field.Type.Scale))
		groups := c.groups
		finished, encoding, words := c.finish()
		index, packed, err := w.column(c, groups, finished)
		if err != nil {
			return err
		}
		indexes = append(indexes, index)
		footer.bytes(1, streamMessage(streamRowIndex, c.id, len(index)))
		if c.bloom != nil {
			filters, _, err := w.packer.pack(c.bloom.index())
			if err != nil {
				return err
			}
			indexes = append(indexes, filters)
			footer.bytes(1, streamMessage(streamBloomUTF8, c.id, len(filters)))
		}
		for i, s := range finished {
			data = append(data, packed[i])
			streams.bytes(1, streamMessage(s.kind, c.id, len(packed[i])))
		}
		var how message
		how.uint(1, encoding)
		if words > 0 {
			how.uint(2, uint64(words))
		}
		if c.bloom != nil {
			how.uint(3, 1) // times in filters are those of UTC
		}
		list.bytes(2, how)
	}
	footer = append(append(footer, streams...), list...)
	footer.text(3, "UTC")
	tail, _, err := w.packer.pack(footer)
	if err != nil {
		return err
	}
	start := w.offset
	var sizes [2]int64
	for i, parts := range [][][]byte{indexes, data} {
		before := w.offset
		for _, part := range parts {
			if err := w.write(part); err != nil {
				return err
			}
		}
		sizes[i] = w.offset - before
	}
	if err := w.write(tail); err != nil {
		return err
	}
	var stripe message
	stripe.uint(1, uint64(start))
	stripe.uint(2, uint64(sizes[0]))
	stripe.uint(3, uint64(sizes[1]))
	stripe.uint(4, uint64(len(tail)))
	stripe.uint(5, uint64(w.rows))
	w.stripes, w.details = append(w.stripes, stripe), append(w.details, detail)
	w.total, w.rows = w.total+w.rows, 0
	return nil
}

func streamMessage(kind uint64, column, length int) message {
	var m message
	m.uint(1, kind)
	m.uint(2, uint64(column))
	m.uint(3, uint64(length))
	return m
}

// column compresses the streams of a column, and writes its index: for each row group where it begins in every stream, and its
// statistics.
func (w *Writer) column(c *column, groups []statistics, streams []stream) (index []byte, packed [][]byte, err error) {
	positions := make([][]uint64, len(groups))
	for _, s := range streams {
		body, starts, err := w.packer.pack(s.body)
		if err != nil {
			return nil, nil, err
		}
		packed = append(packed, body)
		for g, p := range s.places {
			if w.packer.codec == uncompressed {
				positions[g] = append(positions[g], uint64(p.offset))
			} else {
				positions[g] = append(positions[g], uint64(starts[p.offset/chunkBytes]), uint64(p.offset%chunkBytes))
			}
			positions[g] = append(positions[g], p.inside...)
		}
	}
	var m message
	for g := range groups {
		var entry message
		entry.packed(1, positions[g])
		entry.bytes(2, groups[g].encode(c.kind, c.field.Type.Scale))
		m.bytes(1, entry)
	}
	index, _, err = w.packer.pack(m)
	return index, packed, err
}

// Close ends the open stripe and writes the tail of the file: the statistics of stripes, the footer, and the postscript with
// its length ("File Tail").
func (w *Writer) Close() (rows int64, err error) {
	if err := w.EndStripe(); err != nil {
		return 0, err
	}
	content := w.offset
	var metadata, footer message
	for _, d := range w.details {
		metadata.bytes(1, d)
	}
	footer.uint(1, uint64(len(magic.ORC)))
	footer.uint(2, uint64(content))
	for _, s := range w.stripes {
		footer.bytes(3, s)
	}
	for _, c := range w.columns {
		footer.bytes(4, c.describe())
	}
	footer.uint(6, uint64(w.total))
	for _, c := range w.columns {
		footer.bytes(7, c.all.encode(c.kind, c.field.Type.Scale))
	}
	footer.uint(8, stride)
	const prolepticGregorian = 2
	footer.uint(11, prolepticGregorian)
	footer.text(12, "trevak")
	var sizes [2]int
	for i, m := range []message{metadata, footer} {
		packed, _, err := w.packer.pack(m)
		if err != nil {
			return 0, err
		}
		if err := w.write(packed); err != nil {
			return 0, err
		}
		sizes[i] = len(packed)
	}
	return w.total, w.postscript(sizes[0], sizes[1])
}

func (w *Writer) postscript(metadata, footer int) error {
	// Readers take files of this writer version to have timestamps of UTC in their statistics.
	const writerVersion = 7
	var m message
	m.uint(1, uint64(footer))
	m.uint(2, uint64(w.packer.codec))
	if w.packer.codec != uncompressed {
		m.uint(3, chunkBytes)
	}
	m.packed(4, []uint64{0, 12})
	m.uint(5, uint64(metadata))
	m.uint(6, writerVersion)
	m.text(8000, magic.ORC)
	if len(m) > 255 {
		return fmt.Errorf("the postscript has %d bytes", len(m))
	}
	return w.write(append(m, byte(len(m))))
}

// describe writes the type of a column ("Type Information"), with what the format has no words for in attributes.
func (c *column) describe() message {
	var m message
	m.uint(1, uint64(c.kind))
	var parts []uint64
	for _, child := range c.children {
		parts = append(parts, uint64(child.id))
	}
	if len(parts) > 0 {
		m.packed(2, parts)
	}
	if c.kind == kindStruct {
		for _, child := range c.children {
			m.text(3, child.field.Name)
		}
	}
	if c.kind == kindDecimal {
		m.uint(5, uint64(c.field.Type.Precision))
		m.uint(6, uint64(c.field.Type.Scale))
	}
	attribute := func(key, value string) {
		var pair message
		pair.text(1, key)
		pair.text(2, value)
		m.bytes(7, pair)
	}
	if c.field.ID > 0 {
		attribute(attributeID, strconv.Itoa(c.field.ID))
		attribute(attributeRequired, strconv.FormatBool(c.field.Required))
	}
	switch c.field.Type.Kind {
	case schema.Time:
		attribute(attributeLong, longTime)
	case schema.UUID:
		attribute(attributeBinary, binaryUUID)
	}
	return m
}
