package columnar

import (
	"math"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/lexical"
	"trevak/internal/rowtext"
)

// avroDecoder reads the values of one block after the other.
type avroDecoder struct {
	avroReader
	// entries is how many records and elements the block may still have: each takes a byte at least, apart from some that take none.
	entries int64
}

// avroDecode reads one value into the builder that it was made for. What goes wrong is in the reader's err.
type avroDecode func()

// decoder returns what reads the values of a field.
func (n *avroNode) decoder(d *avroDecoder, b array.Builder) avroDecode {
	there := n.there(d, b)
	if n.branches == nil {
		return there
	}
	return func() {
		switch at := d.long(); {
		case at < 0 || at >= int64(len(n.branches)):
			d.fail("a union has no branch %d", at)
		case n.branches[at]:
			b.AppendNull()
		default:
			there()
		}
	}
}

// there is decoder for values that are not null.
func (n *avroNode) there(d *avroDecoder, b array.Builder) avroDecode {
	switch b := b.(type) {
	case *array.StructBuilder:
		members := make([]avroDecode, len(n.parts))
		for i, part := range n.parts {
			members[i] = part.decoder(d, b.FieldBuilder(i))
		}
		return func() {
			b.Append(true)
			for _, decode := range members {
				decode()
			}
		}
	case *array.MapBuilder:
		return n.mapDecoder(d, b)
	case *array.ListBuilder:
		element := n.parts[0].decoder(d, b.ValueBuilder())
		return d.blocks(func() { b.Append(true) }, element)
	}
	return n.scalarDecoder(d, b)
}

// mapDecoder reads maps, and lists of entries that are maps.
func (n *avroNode) mapDecoder(d *avroDecoder, b *array.MapBuilder) avroDecode {
	value := n.parts[len(n.parts)-1].decoder(d, b.ItemBuilder())
	key := func() { b.KeyBuilder().(*array.StringBuilder).BinaryBuilder.Append(d.avroReader.bytes()) }
	if len(n.parts) == 2 {
		key = n.parts[0].decoder(d, b.KeyBuilder())
	}
	return d.blocks(func() { b.Append(true) }, func() {
		key()
		value()
	})
}

// blocks reads elements, which come in blocks that end with an empty one.
func (d *avroDecoder) blocks(begin, element func()) avroDecode {
	return func() {
		begin()
		for d.err == nil {
			count := d.elements()
			if count == 0 {
				return
			}
			if d.entries -= count; count < 0 || d.entries < 0 {
				d.fail("lists are said to have more elements than there are bytes")
			}
			for ; count > 0 && d.err == nil; count-- {
				element()
			}
		}
	}
}

func (n *avroNode) scalarDecoder(d *avroDecoder, b array.Builder) avroDecode {
	long := d.long
	if n.of.Type == "int" {
		long = func() int64 { return int64(d.int()) }
	}
	unit := avroUnit(n.of)
	switch b := b.(type) {
	case *array.BooleanBuilder:
		return func() { b.Append(d.bool()) }
	case *array.Int32Builder:
		return func() { b.Append(d.int()) }
	case *array.Int64Builder:
		return func() { b.Append(d.long()) }
	case *array.Float32Builder:
		return func() { b.Append(d.float()) }
	case *array.Float64Builder:
		return func() { b.Append(d.double()) }
	case *array.Date32Builder:
		return func() { b.Append(arrow.Date32(d.int())) }
	case *array.Time64Builder:
		return func() { b.Append(arrow.Time64(d.scaled(long(), unit))) }
	case *array.TimestampBuilder:
		return func() { b.Append(arrow.Timestamp(d.scaled(long(), unit))) }
	case *array.Decimal128Builder:
		return func() { b.Append(d.decimal(n.bytes(d))) }
	case *array.StringBuilder:
		return n.textDecoder(d, b)
	case *array.BinaryBuilder:
		return func() { b.Append(n.bytes(d)) }
	case *array.FixedSizeBinaryBuilder:
		return func() { b.Append(d.uuid(n.bytes(d))) }
	case *array.ExtensionBuilder:
		return n.scalarDecoder(d, b.StorageBuilder())
	}
	return func() { d.fail("values of the type %s are not read", n.of.Type) }
}

// textDecoder reads texts, the symbols of enumerations, and as JSON what has no other form.
func (n *avroNode) textDecoder(d *avroDecoder, b *array.StringBuilder) avroDecode {
	switch n.of.Type {
	case "enum":
		return func() {
			at := int(d.int())
			if at < 0 || at >= len(n.of.Symbols) {
				d.fail("an enumeration has no symbol %d", at)
				return
			}
			b.Append(n.of.Symbols[at])
		}
	case "union":
		return n.unionDecoder(d, b)
	case "null":
		return b.AppendNull
	}
	return func() { b.BinaryBuilder.Append(n.bytes(d)) }
}

// unionDecoder reads a union of several types as the text of its values, JSON for those that have parts.
func (n *avroNode) unionDecoder(d *avroDecoder, b *array.StringBuilder) avroDecode {
	builders, decoders := make([]array.Builder, len(n.parts)), make([]avroDecode, len(n.parts))
	for i, branch := range n.parts {
		builders[i] = array.NewBuilder(memory.DefaultAllocator, branch.Type.Arrow())
		decoders[i] = branch.decoder(d, builders[i])
	}
	return func() {
		at := d.long()
		if at < 0 || at >= int64(len(n.parts)) {
			d.fail("a union has no branch %d", at)
			return
		}
		if decoders[at](); d.err != nil {
			return
		}
		if value := builders[at].NewArray(); value.IsNull(0) {
			b.AppendNull()
		} else {
			b.BinaryBuilder.Append(rowtext.AppendText(nil, value, 0))
		}
	}
}

// bytes reads a text or bytes, of a fixed or of any length.
func (n *avroNode) bytes(d *avroDecoder) []byte {
	if n.of.Type == "fixed" {
		return d.take(int64(n.of.Size))
	}
	return d.avroReader.bytes()
}

// scaled brings a time or timestamp to microseconds.
func (d *avroDecoder) scaled(v, unit int64) int64 {
	if v > math.MaxInt64/unit || v < math.MinInt64/unit {
		d.fail("the time %d is beyond what microseconds count", v)
		return 0
	}
	return v * unit
}

// decimal reads an unscaled value, the highest byte first.
func (d *avroDecoder) decimal(b []byte) decimal128.Num {
	sign := byte(0)
	if len(b) > 0 && b[0]&0x80 != 0 {
		sign = 0xff
	}
	for len(b) > 16 && b[0] == sign && b[1]&0x80 == sign&0x80 {
		b = b[1:]
	}
	if len(b) > 16 {
		d.fail("a decimal of %d bytes has more than 38 digits", len(b))
		return decimal128.Num{}
	}
	whole := append(slices.Repeat([]byte{sign}, 16-len(b)), b...)
	var high, low uint64
	for i := range 8 {
		high, low = high<<8|uint64(whole[i]), low<<8|uint64(whole[8+i])
	}
	return decimal128.New(int64(high), low)
}

// uuid reads a uuid, as text or as its 16 bytes.
func (d *avroDecoder) uuid(b []byte) []byte {
	if len(b) == 16 {
		return b
	}
	id, ok := lexical.StatedUUID(b)
	if !ok {
		d.fail("%.40q is no uuid", b)
	}
	return id[:]
}
