package orc

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"
	_ "time/tzdata" // stripes name the zone of their writer

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"google.golang.org/protobuf/encoding/protowire"
)

// File is an open file. It reads from what it was opened with, which the caller closes.
type File struct {
	r    io.ReaderAt
	tail *tail
	tree *arrow.Schema
}

// Open reads a file's tail.
func Open(r io.ReaderAt, size int64) (*File, error) {
	t, err := readTail(r, size)
	if err != nil {
		return nil, err
	}
	f := &File{r: r, tail: t}
	f.tree, err = t.schema()
	return f, err
}

// Schema is the Arrow form of the file's own schema.
func (f *File) Schema() *arrow.Schema { return f.tree }

// Rows is how many rows the file has.
func (f *File) Rows() int64 { return f.tail.rows }

// Batches hands on all rows in order. A batch is valid until emit returns.
func (f *File) Batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	step := f.step()
	for i, s := range f.tail.stripes {
		var root *reader
		if err := guarded(func() (err error) { root, err = f.open(s); return err }); err != nil {
			return fmt.Errorf("stripe %d: %w", i+1, err)
		}
		for left := s.rows; left > 0; {
			if err := ctx.Err(); err != nil {
				return err
			}
			n := min(step, left)
			var batch arrow.RecordBatch
			if err := guarded(func() error { batch = root.batch(f.tree, int(n)); return nil }); err != nil {
				return fmt.Errorf("stripe %d: %w", i+1, err)
			}
			if err := emit(batch); err != nil {
				return err
			}
			left -= n
		}
	}
	return nil
}

// guarded makes an error of what decoders panic with.
func guarded(read func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			d, ok := r.(damage)
			if !ok {
				panic(r)
			}
			err = d.error
		}
	}()
	return read()
}

// step is how many rows are read at a time, fewer where lists make many values of them.
func (f *File) step() int64 {
	const rows, values = 8192, 1 << 20
	step := int64(rows)
	for i, m := range f.tail.statistics {
		if i >= len(f.tail.nodes) {
			break
		}
		if d, err := describe(m, f.tail.nodes[i]); err == nil && d.values/values > f.tail.rows/step {
			step = max(1, f.tail.rows/(d.values/values))
		}
	}
	return step
}

// batch reads the next n rows of a stripe.
func (r *reader) batch(tree *arrow.Schema, n int) arrow.RecordBatch {
	columns := make([]arrow.Array, len(r.children))
	for i, child := range r.children {
		columns[i] = array.MakeFromData(child.read(n, nil))
	}
	return array.NewRecordBatch(tree, columns, int64(n))
}

// streams are the streams of one column, by their kinds, with how it is encoded.
type streams struct {
	inputs   map[uint64]*input
	bytes    int64 // of them all, as they are stored
	encoding uint64
	words    uint64
}

// streamsOf reads the footer of a stripe.
func (f *File) streamsOf(s stripe) (columns []streams, zone string, err error) {
	packed := make([]byte, s.footer)
	if _, err := f.r.ReadAt(packed, s.offset+s.index+s.data); err != nil {
		return nil, "", err
	}
	footer, err := f.tail.unpack.whole(packed)
	if err != nil {
		return nil, "", err
	}
	columns = make([]streams, len(f.tail.nodes))
	at, encoded := s.offset, 0
	err = walk(footer, func(field protowire.Number, v value) error {
		switch field {
		case 1:
			kind, column, length, err := readStream(v.bytes)
			if err != nil {
				return err
			}
			if column >= uint64(len(columns)) || length > uint64(s.offset+s.index+s.data-at) {
				return fmt.Errorf("a stream of %d bytes of column %d does not lie in the stripe", length, column)
			}
			c := &columns[column]
			if c.inputs == nil {
				c.inputs = map[uint64]*input{}
			}
			c.inputs[kind] = &input{name: fmt.Sprintf("column %d at byte %d", column, at),
				packed: io.NewSectionReader(f.r, at, int64(length)), unpack: f.tail.unpack}
			c.bytes += int64(length)
			at += int64(length)
		case 2:
			if encoded >= len(columns) {
				return errors.New("there are more encodings than columns")
			}
			c := &columns[encoded]
			encoded++
			return walk(v.bytes, func(field protowire.Number, v value) error {
				switch field {
				case 1:
					c.encoding = v.number
				case 2:
					c.words = v.number
				}
				return nil
			})
		case 3:
			zone = string(v.bytes)
		}
		return nil
	})
	if err == nil && encoded != len(columns) {
		err = fmt.Errorf("there are %d encodings for %d columns", encoded, len(columns))
	}
	return columns, zone, err
}

func readStream(m []byte) (kind, column, length uint64, err error) {
	err = walk(m, func(field protowire.Number, v value) error {
		switch field {
		case 1:
			kind = v.number
		case 2:
			column = v.number
		case 3:
			length = v.number
		}
		return nil
	})
	return kind, column, length, err
}

// open prepares for reading a stripe.
func (f *File) open(s stripe) (*reader, error) {
	columns, name, err := f.streamsOf(s)
	if err != nil {
		return nil, err
	}
	var zone *time.Location
	if name != "" && name != "UTC" && name != "GMT" {
		if zone, err = time.LoadLocation(name); err != nil {
			return nil, fmt.Errorf("its writer was in the zone %q, which is not known: %w", name, err)
		}
	}
	return f.tail.nodes[0].reader(columns, zone)
}

// reader prepares for reading a column and its parts.
func (n *node) reader(columns []streams, zone *time.Location) (*reader, error) {
	c := columns[n.id]
	if c.encoding > encodingDictionaryV2 {
		return nil, fmt.Errorf("column %d has an encoding of the number %d", n.id, c.encoding)
	}
	r := &reader{node: n, zone: zone}
	var err error
	if r.dt, err = n.arrow(); err != nil {
		return nil, err
	}
	second := c.encoding == encodingDirectV2 || c.encoding == encodingDictionaryV2
	input := func(kind uint64) *input {
		if in := c.inputs[kind]; in != nil {
			return in
		}
		return &input{name: fmt.Sprintf("column %d", n.id), packed: io.NewSectionReader(nil, 0, 0), unpack: &unpacker{}}
	}
	integers := func(kind uint64, signed bool) *integerInput {
		return &integerInput{input: input(kind), signed: signed, second: second}
	}
	if c.inputs[streamPresent] != nil {
		r.present = &bitInput{byteInput: byteInput{input: input(streamPresent)}}
	}
	switch n.kind {
	case kindBoolean:
		r.bits = &bitInput{byteInput: byteInput{input: input(streamData)}}
	case kindByte:
		r.bytes = &byteInput{input: input(streamData)}
	case kindFloat, kindDouble:
		r.data = input(streamData)
	case kindDecimal:
		r.data, r.second = input(streamData), integers(streamSecondary, true)
	case kindTimestamp, kindTimestampInstant:
		r.integers, r.second = integers(streamData, true), integers(streamSecondary, false)
	case kindList, kindMap:
		r.lengths = integers(streamLength, false)
	case kindString, kindVarchar, kindChar, kindBinary:
		if c.encoding == encodingDictionary || c.encoding == encodingDictionaryV2 {
			r.integers = integers(streamData, false)
			r.dictionary(input(streamDictionary), integers(streamLength, false), int(min(c.words, longestBytes)))
			break
		}
		r.data, r.lengths = input(streamData), integers(streamLength, false)
	case kindStruct:
	default:
		r.integers = integers(streamData, true)
	}
	for _, child := range n.children {
		part, err := child.reader(columns, zone)
		if err != nil {
			return nil, err
		}
		r.children = append(r.children, part)
	}
	return r, nil
}

// Layout is how a file is built.
type Layout struct {
	Version, Software, Codec string
	// Keys are the names of the user's metadata, with the length of each value in bytes.
	Keys    map[string]int
	Stripes []StripeLayout
	// Columns are the columns that have no parts, in order.
	Columns []ColumnLayout
}

// StripeLayout is one stripe; its bytes are as they are stored.
type StripeLayout struct{ Rows, Bytes int64 }

// ColumnLayout is one column over all stripes.
type ColumnLayout struct {
	Type      string
	Encodings []string
	Bytes     int64
	// Bloom says that there are Bloom filters.
	Bloom bool
	// Values counts those that are not null, -1 where nothing is said.
	Values            int64
	Smallest, Largest string
}

// Layout describes how the file is built.
func (f *File) Layout() (Layout, error) {
	out := Layout{Version: f.tail.version, Software: f.tail.software, Codec: f.tail.unpack.codec.String(), Keys: f.tail.keys}
	all := make([]ColumnLayout, len(f.tail.nodes))
	for i, n := range f.tail.nodes {
		all[i] = ColumnLayout{Type: n.kind.String(), Values: -1}
		if i < len(f.tail.statistics) {
			d, err := describe(f.tail.statistics[i], n)
			if err != nil {
				return out, fmt.Errorf("the statistics of column %d are broken: %w", i, err)
			}
			all[i].Values, all[i].Smallest, all[i].Largest = d.values, d.smallest, d.largest
		}
	}
	for i, s := range f.tail.stripes {
		columns, _, err := f.streamsOf(s)
		if err != nil {
			return out, fmt.Errorf("stripe %d: %w", i+1, err)
		}
		out.Stripes = append(out.Stripes, StripeLayout{s.rows, s.index + s.data + s.footer})
		for c := range columns {
			all[c].Bytes += columns[c].bytes
			all[c].Bloom = all[c].Bloom || columns[c].inputs[streamBloom] != nil || columns[c].inputs[streamBloomUTF8] != nil
			if e := columns[c].encoding; e <= encodingDictionaryV2 && !slices.Contains(all[c].Encodings, encodingNames[e]) {
				all[c].Encodings = append(all[c].Encodings, encodingNames[e])
			}
		}
	}
	var leaves func(n *node)
	leaves = func(n *node) {
		if len(n.children) == 0 {
			out.Columns = append(out.Columns, all[n.id])
		}
		for _, child := range n.children {
			leaves(child)
		}
	}
	for _, child := range f.tail.nodes[0].children {
		leaves(child)
	}
	return out, nil
}
