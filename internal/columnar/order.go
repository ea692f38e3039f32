package columnar

import (
	"bytes"
	"encoding/binary"
	"math"

	"github.com/apache/arrow-go/v18/parquet"
)

// less compares two values in the plain encoding of a physical type (Parquet specification, "Column Orders").
func less(t parquet.Type, a, b []byte) bool {
	switch t {
	case parquet.Types.Int32:
		return int32(binary.LittleEndian.Uint32(a)) < int32(binary.LittleEndian.Uint32(b))
	case parquet.Types.Int64:
		return int64(binary.LittleEndian.Uint64(a)) < int64(binary.LittleEndian.Uint64(b))
	case parquet.Types.Float:
		return math.Float32frombits(binary.LittleEndian.Uint32(a)) < math.Float32frombits(binary.LittleEndian.Uint32(b))
	case parquet.Types.Double:
		return math.Float64frombits(binary.LittleEndian.Uint64(a)) < math.Float64frombits(binary.LittleEndian.Uint64(b))
	}
	return bytes.Compare(a, b) < 0
}
