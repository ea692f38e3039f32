package orc

import (
	"encoding/binary"
	"fmt"
	"math"

	"google.golang.org/protobuf/encoding/protowire"
)

// message is a Protocol Buffers message that is being written. The fields of each kind of message, and their numbers, are those of the
// specification's schema.
type message []byte

func (m *message) uint(field protowire.Number, v uint64) {
	*m = protowire.AppendVarint(protowire.AppendTag(*m, field, protowire.VarintType), v)
}

func (m *message) sint(field protowire.Number, v int64) { m.uint(field, protowire.EncodeZigZag(v)) }

func (m *message) double(field protowire.Number, v float64) {
	*m = protowire.AppendFixed64(protowire.AppendTag(*m, field, protowire.Fixed64Type), math.Float64bits(v))
}

func (m *message) bytes(field protowire.Number, v []byte) {
	*m = protowire.AppendBytes(protowire.AppendTag(*m, field, protowire.BytesType), v)
}

func (m *message) text(field protowire.Number, v string) { m.bytes(field, []byte(v)) }

func (m *message) packed(field protowire.Number, list []uint64) {
	var body []byte
	for _, v := range list {
		body = binary.AppendUvarint(body, v)
	}
	m.bytes(field, body)
}

// value is the value of a field that is being read: a number, or bytes.
type value struct {
	number uint64
	bytes  []byte
}

func (v value) sint() int64 { return protowire.DecodeZigZag(v.number) }

func (v value) double() float64 { return math.Float64frombits(v.number) }

// list reads numbers, which may be packed or stand alone.
func (v value) list() ([]uint64, error) {
	if v.bytes == nil {
		return []uint64{v.number}, nil
	}
	var out []uint64
	for rest := v.bytes; len(rest) > 0; {
		n, size := protowire.ConsumeVarint(rest)
		if size < 0 {
			return nil, protowire.ParseError(size)
		}
		out, rest = append(out, n), rest[size:]
	}
	return out, nil
}

// walk hands on the fields of a message in the order they stand in. Fields that take does not know are to be passed over.
func walk(m []byte, take func(field protowire.Number, v value) error) error {
	for len(m) > 0 {
		field, wire, size := protowire.ConsumeTag(m)
		if size < 0 {
			return protowire.ParseError(size)
		}
		m = m[size:]
		var v value
		switch wire {
		case protowire.VarintType:
			v.number, size = protowire.ConsumeVarint(m)
		case protowire.Fixed64Type:
			v.number, size = protowire.ConsumeFixed64(m)
		case protowire.Fixed32Type:
			var n uint32
			n, size = protowire.ConsumeFixed32(m)
			v.number = uint64(n)
		case protowire.BytesType:
			v.bytes, size = protowire.ConsumeBytes(m)
			if v.bytes == nil {
				v.bytes = []byte{}
			}
		default:
			return fmt.Errorf("a message has a field of the wire type %d", wire)
		}
		if size < 0 {
			return protowire.ParseError(size)
		}
		m = m[size:]
		if err := take(field, v); err != nil {
			return err
		}
	}
	return nil
}
