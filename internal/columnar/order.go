package columnar

import (
	"bytes"
	"encoding/binary"
	"math"

	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/schema"
)

// less compares two values of a column in plain encoding (Parquet specification, "Column Orders").
func less(c *schema.Column, a, b []byte) bool {
	switch c.PhysicalType() {
	case parquet.Types.Int32:
		return int32(binary.LittleEndian.Uint32(a)) < int32(binary.LittleEndian.Uint32(b))
	case parquet.Types.Int64:
		return int64(binary.LittleEndian.Uint64(a)) < int64(binary.LittleEndian.Uint64(b))
	case parquet.Types.Float:
		return math.Float32frombits(binary.LittleEndian.Uint32(a)) < math.Float32frombits(binary.LittleEndian.Uint32(b))
	case parquet.Types.Double:
		return math.Float64frombits(binary.LittleEndian.Uint64(a)) < math.Float64frombits(binary.LittleEndian.Uint64(b))
	}
	if isDecimal(c) {
		return compareSigned(a, b) < 0
	}
	return bytes.Compare(a, b) < 0
}

// compareSigned compares numbers in two's complement of the same length, big-endian.
func compareSigned(a, b []byte) int {
	if (a[0]^b[0])&0x80 != 0 {
		return bytes.Compare(b[:1], a[:1])
	}
	return bytes.Compare(a, b)
}

func isDecimal(c *schema.Column) bool {
	_, ok := c.LogicalType().(schema.DecimalLogicalType)
	return ok
}

// singleDecimal turns a decimal in plain encoding into the single-value form of the Iceberg specification (appendix D): the
// unscaled value in two's complement, big-endian, in as few bytes as hold it.
func singleDecimal(t parquet.Type, plain []byte) []byte {
	out := bytes.Clone(plain)
	if t != parquet.Types.FixedLenByteArray {
		for i, j := 0, len(out)-1; i < j; i, j = i+1, j-1 {
			out[i], out[j] = out[j], out[i]
		}
	}
	for len(out) > 1 && (out[0] == 0 && out[1] < 0x80 || out[0] == 0xff && out[1] >= 0x80) {
		out = out[1:]
	}
	return out
}
