// Package orc writes and reads files of the Apache ORC format, version 1 of its specification.
//
// What comes in are record batches of the types that schema.Type.Arrow gives, what goes out is a file of stripes, with row indexes every
// 10,000 rows and statistics of columns, stripes and row groups; and back. Sections named in comments are those of the specification.
// Nothing here knows of the other formats.
package orc

import (
	"fmt"

	"trevak/internal/schema"
)

// kind is the kind of a type ("Type Information").
type kind uint64

const (
	kindBoolean kind = iota
	kindByte
	kindShort
	kindInt
	kindLong
	kindFloat
	kindDouble
	kindString
	kindBinary
	kindTimestamp
	kindList
	kindMap
	kindStruct
	kindUnion
	kindDecimal
	kindDate
	kindVarchar
	kindChar
	kindTimestampInstant
)

var kindNames = []string{"boolean", "byte", "short", "int", "long", "float", "double", "string", "binary", "timestamp", "list", "map",
	"struct",
	"union", "decimal", "date", "varchar", "char", "timestamp-instant"}

func (k kind) String() string {
	if int(k) < len(kindNames) {
		return kindNames[k]
	}
	return fmt.Sprintf("type of number %d", uint64(k))
}

// The kinds of streams ("Stripe Footer").
const (
	streamPresent uint64 = iota
	streamData
	streamLength
	streamDictionary
	_
	streamSecondary
	streamRowIndex
	streamBloom
	streamBloomUTF8
)

// The encodings of columns ("Stripe Footer").
const (
	encodingDirect uint64 = iota
	encodingDictionary
	encodingDirectV2
	encodingDictionaryV2
)

var encodingNames = []string{"direct", "dictionary", "direct-v2", "dictionary-v2"}

// Attributes of types that say what the format has no type for, as the Iceberg specification names them (appendix A, "ORC").
const (
	attributeID       = "iceberg.id"
	attributeRequired = "iceberg.required"
	attributeLong     = "iceberg.long-type"
	attributeBinary   = "iceberg.binary-type"
	longTime          = "TIME"
	binaryUUID        = "UUID"
)

// kindOf returns the kind that holds a type's values.
func kindOf(t schema.Type) kind {
	switch t.Kind {
	case schema.Boolean:
		return kindBoolean
	case schema.Int:
		return kindInt
	case schema.Long, schema.Time:
		return kindLong
	case schema.Float:
		return kindFloat
	case schema.Double:
		return kindDouble
	case schema.Decimal:
		return kindDecimal
	case schema.Date:
		return kindDate
	case schema.Timestamp:
		return kindTimestamp
	case schema.TimestampTz:
		return kindTimestampInstant
	case schema.UUID, schema.Binary:
		return kindBinary
	case schema.Struct:
		return kindStruct
	case schema.List:
		return kindList
	case schema.Map:
		return kindMap
	}
	return kindString
}

// epoch is the second that timestamps are counted from: 2015-01-01 00:00:00 ("Timestamp Columns").
const epoch = 1420070400

// stride is how many rows a row group of the index has.
const stride = 10_000
