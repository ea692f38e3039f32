package orc

import (
	"fmt"
	"io"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"google.golang.org/protobuf/encoding/protowire"

	"trevak/internal/magic"
	"trevak/internal/schema"
)

// Bounds of what a file may ask for: bytes of its footer or statistics, and how deep and wide its type tree is.
const (
	largestTail  = 256 << 20
	deepestType  = 100
	mostTypes    = 1 << 20
	longestBytes = 1 << 30
)

// node is a type of the file's tree.
type node struct {
	id               int
	kind             kind
	parts            []int
	names            []string
	children         []*node
	precision, scale int
	attributes       map[string]string
}

// stripe is where a stripe lies.
type stripe struct {
	offset, index, data, footer, rows int64
}

// tail is what the end of a file says of it.
type tail struct {
	version    string
	software   string
	unpack     *unpacker
	nodes      []*node
	stripes    []stripe
	rows       int64
	statistics [][]byte
	keys       map[string]int // of the user's metadata: how long the values are
}

// readTail reads postscript and footer, and checks that what they speak of lies within the file.
func readTail(r io.ReaderAt, size int64) (*tail, error) {
	if size < int64(len(magic.ORC))+2 {
		return nil, fmt.Errorf("it has %d bytes, which is no ORC file", size)
	}
	last := make([]byte, min(size, 256))
	if _, err := r.ReadAt(last, size-int64(len(last))); err != nil {
		return nil, err
	}
	n := int(last[len(last)-1])
	if n+1 > len(last) {
		return nil, fmt.Errorf("its postscript is said to have %d bytes", n)
	}
	t := &tail{keys: map[string]int{}}
	footer, metadata, err := t.postscript(last[len(last)-1-n : len(last)-1])
	if err != nil {
		return nil, err
	}
	left := size - 1 - int64(n)
	if footer > uint64(left) || metadata > uint64(left)-footer || footer > largestTail {
		return nil, fmt.Errorf("its footer of %d bytes does not lie in the file", footer)
	}
	packed := make([]byte, footer)
	if _, err := r.ReadAt(packed, left-int64(footer)); err != nil {
		return nil, err
	}
	plain, err := t.unpack.whole(packed)
	if err != nil {
		return nil, fmt.Errorf("its footer cannot be decompressed: %w", err)
	}
	if err := walk(plain, t.footer); err != nil {
		return nil, fmt.Errorf("its footer is broken: %w", err)
	}
	if err := t.link(); err != nil {
		return nil, err
	}
	return t, t.plausible(left - int64(footer) - int64(metadata))
}

// postscript reads the message PostScript, and returns the lengths of footer and metadata.
func (t *tail) postscript(m []byte) (footer, metadata uint64, err error) {
	var codec compression
	var most uint64
	var version []uint64
	ending := ""
	err = walk(m, func(field protowire.Number, v value) (err error) {
		switch field {
		case 1:
			footer = v.number
		case 2:
			codec = compression(v.number)
		case 3:
			most = v.number
		case 4:
			var part []uint64
			part, err = v.list()
			version = append(version, part...)
		case 5:
			metadata = v.number
		case 8000:
			ending = string(v.bytes)
		}
		return err
	})
	if err != nil || ending != magic.ORC {
		return 0, 0, fmt.Errorf("it does not end as an ORC file does")
	}
	if len(version) >= 2 {
		t.version = fmt.Sprintf("%d.%d", version[0], version[1])
	}
	t.unpack, err = newUnpacker(codec, most)
	return footer, metadata, err
}

// footer takes a field of the message Footer.
func (t *tail) footer(field protowire.Number, v value) error {
	switch field {
	case 3:
		s, err := readStripe(v.bytes)
		t.stripes = append(t.stripes, s)
		return err
	case 4:
		n, err := readNode(v.bytes)
		n.id = len(t.nodes)
		if t.nodes = append(t.nodes, n); len(t.nodes) > mostTypes {
			return fmt.Errorf("there are more than %d types", mostTypes)
		}
		return err
	case 5:
		key := ""
		return walk(v.bytes, func(field protowire.Number, v value) error {
			switch field {
			case 1:
				key = string(v.bytes)
			case 2:
				t.keys[key] = len(v.bytes)
			}
			return nil
		})
	case 6:
		t.rows = int64(v.number)
	case 7:
		t.statistics = append(t.statistics, v.bytes)
	case 12:
		t.software = string(v.bytes)
	}
	return nil
}

func readStripe(m []byte) (s stripe, err error) {
	err = walk(m, func(field protowire.Number, v value) error {
		switch field {
		case 1:
			s.offset = int64(v.number)
		case 2:
			s.index = int64(v.number)
		case 3:
			s.data = int64(v.number)
		case 4:
			s.footer = int64(v.number)
		case 5:
			s.rows = int64(v.number)
		}
		return nil
	})
	return s, err
}

func readNode(m []byte) (*node, error) {
	n := &node{attributes: map[string]string{}}
	err := walk(m, func(field protowire.Number, v value) error {
		switch field {
		case 1:
			n.kind = kind(v.number)
		case 2:
			parts, err := v.list()
			for _, part := range parts {
				n.parts = append(n.parts, int(part))
			}
			return err
		case 3:
			n.names = append(n.names, string(v.bytes))
		case 5:
			n.precision = int(v.number)
		case 6:
			n.scale = int(v.number)
		case 7:
			key := ""
			return walk(v.bytes, func(field protowire.Number, v value) error {
				switch field {
				case 1:
					key = string(v.bytes)
				case 2:
					n.attributes[key] = string(v.bytes)
				}
				return nil
			})
		}
		return nil
	})
	return n, err
}

// link makes a tree of the types: each has its parts after it.
func (t *tail) link() error {
	if len(t.nodes) == 0 || t.nodes[0].kind != kindStruct {
		return fmt.Errorf("its rows are not a struct")
	}
	depth := make([]int, len(t.nodes))
	owned := make([]bool, len(t.nodes))
	for _, n := range t.nodes {
		want := map[kind]int{kindList: 1, kindMap: 2, kindStruct: len(n.names)}[n.kind]
		if n.kind != kindUnion && len(n.parts) != want {
			return fmt.Errorf("its type %d, a %s, has %d parts", n.id, n.kind, len(n.parts))
		}
		if n.kind == kindStruct && want == 0 {
			return fmt.Errorf("its type %d is a struct of nothing", n.id)
		}
		for _, part := range n.parts {
			if part <= n.id || part >= len(t.nodes) || owned[part] || depth[n.id] >= deepestType {
				return fmt.Errorf("its type %d cannot have type %d as a part", n.id, part)
			}
			owned[part], depth[part] = true, depth[n.id]+1
			n.children = append(n.children, t.nodes[part])
		}
		if n.kind == kindDecimal && n.precision == 0 {
			n.precision, n.scale = 38, 18 // files from before decimals had a precision
		}
		if n.kind == kindDecimal && (n.precision < 1 || n.precision > 38 || n.scale < 0 || n.scale > n.precision) {
			return fmt.Errorf("its type %d is a decimal(%d,%d)", n.id, n.precision, n.scale)
		}
	}
	return nil
}

// plausible checks that the stripes lie before the tail and have the rows that are counted.
func (t *tail) plausible(end int64) error {
	var rows int64
	for i, s := range t.stripes {
		for _, n := range []int64{s.offset, s.index, s.data, s.footer, s.rows} {
			if n < 0 || n > end && n != s.rows {
				return fmt.Errorf("stripe %d does not lie in the file", i+1)
			}
		}
		if s.offset+s.index+s.data+s.footer > end {
			return fmt.Errorf("stripe %d of %d bytes from byte %d on does not lie in the file", i+1, s.index+s.data+s.footer, s.offset)
		}
		if rows += s.rows; rows < 0 {
			return fmt.Errorf("stripe %d has %d rows", i+1, s.rows)
		}
	}
	if rows != t.rows {
		return fmt.Errorf("the stripes hold %d rows, the footer counts %d", rows, t.rows)
	}
	return nil
}

// schema returns the Arrow form of the rows' type.
func (t *tail) schema() (*arrow.Schema, error) {
	fields, err := t.nodes[0].fields()
	if err != nil {
		return nil, err
	}
	return arrow.NewSchema(fields, nil), nil
}

func (n *node) fields() ([]arrow.Field, error) {
	out := make([]arrow.Field, len(n.children))
	for i, child := range n.children {
		var err error
		if out[i], err = child.field(n.names[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (n *node) field(name string) (arrow.Field, error) {
	dt, err := n.arrow()
	if err != nil {
		return arrow.Field{}, fmt.Errorf("column %q: %w", name, err)
	}
	f := arrow.Field{Name: name, Type: dt, Nullable: n.attributes[attributeRequired] != "true"}
	if id, err := strconv.Atoi(n.attributes[attributeID]); err == nil {
		f.Metadata = arrow.NewMetadata([]string{schema.FieldIDKey}, []string{strconv.Itoa(id)})
	}
	return f, nil
}

// arrow returns the Arrow type of a type's values. Those of fewer than 4 bytes are widened.
func (n *node) arrow() (arrow.DataType, error) {
	switch n.kind {
	case kindBoolean:
		return arrow.FixedWidthTypes.Boolean, nil
	case kindByte, kindShort, kindInt:
		return arrow.PrimitiveTypes.Int32, nil
	case kindLong:
		if n.attributes[attributeLong] == longTime {
			return arrow.FixedWidthTypes.Time64us, nil
		}
		return arrow.PrimitiveTypes.Int64, nil
	case kindFloat:
		return arrow.PrimitiveTypes.Float32, nil
	case kindDouble:
		return arrow.PrimitiveTypes.Float64, nil
	case kindString, kindVarchar, kindChar:
		return arrow.BinaryTypes.String, nil
	case kindBinary:
		if n.attributes[attributeBinary] == binaryUUID {
			return uuidType, nil
		}
		return arrow.BinaryTypes.Binary, nil
	case kindTimestamp:
		return &arrow.TimestampType{Unit: arrow.Microsecond}, nil
	case kindTimestampInstant:
		return arrow.FixedWidthTypes.Timestamp_us, nil
	case kindDecimal:
		return &arrow.Decimal128Type{Precision: int32(n.precision), Scale: int32(n.scale)}, nil
	case kindDate:
		return arrow.FixedWidthTypes.Date32, nil
	case kindStruct:
		fields, err := n.fields()
		return arrow.StructOf(fields...), err
	case kindList:
		element, err := n.children[0].field(schema.ElementName)
		return arrow.ListOfField(element), err
	case kindMap:
		key, err := n.children[0].field(schema.KeyName)
		if err != nil {
			return nil, err
		}
		key.Nullable = false
		item, err := n.children[1].field(schema.ValueName)
		return arrow.MapOfFields(key, item), err
	}
	return nil, fmt.Errorf("a %s has no counterpart in a table", n.kind)
}
