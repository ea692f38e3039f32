package columnar

import (
	"encoding/base64"
	"encoding/binary"
	"math"
	"strconv"
	"time"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/parquet"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// boundText writes a value of a column's statistics, which is in plain encoding, as text; empty where it has no text.
func boundText(column *pqschema.Column, t schema.Type, plain []byte) string {
	var whole int64
	switch column.PhysicalType() {
	case parquet.Types.Int32:
		whole = int64(int32(binary.LittleEndian.Uint32(plain)))
	case parquet.Types.Int64:
		whole = int64(binary.LittleEndian.Uint64(plain))
	case parquet.Types.Boolean:
		return strconv.FormatBool(plain[0] != 0)
	case parquet.Types.Float:
		return strconv.FormatFloat(float64(math.Float32frombits(binary.LittleEndian.Uint32(plain))), 'g', -1, 32)
	case parquet.Types.Double:
		return strconv.FormatFloat(math.Float64frombits(binary.LittleEndian.Uint64(plain)), 'g', -1, 64)
	case parquet.Types.Int96:
		return ""
	default:
		return bytesText(t, plain)
	}
	switch t.Kind {
	case schema.Date:
		return time.Unix(whole*86400, 0).UTC().Format("2006-01-02")
	case schema.Decimal:
		return decimal128.FromI64(whole).ToString(int32(t.Scale))
	case schema.Time, schema.Timestamp, schema.TimestampTz, schema.TimestampNs, schema.TimestampTzNs:
		return timeText(column, t, whole)
	}
	return strconv.FormatInt(whole, 10)
}

// bytesText writes a value that is kept as bytes.
func bytesText(t schema.Type, plain []byte) string {
	switch t.Kind {
	case schema.String:
		return string(plain)
	case schema.UUID:
		return string(rowtext.AppendUUID(nil, plain))
	case schema.Decimal:
		if len(plain) > 16 || len(plain) == 0 {
			return ""
		}
		var wide [16]byte
		if plain[0] >= 0x80 {
			for i := range wide {
				wide[i] = 0xff
			}
		}
		copy(wide[16-len(plain):], plain)
		return decimal128.New(int64(binary.BigEndian.Uint64(wide[:8])), binary.BigEndian.Uint64(wide[8:])).ToString(int32(t.Scale))
	}
	return base64.StdEncoding.EncodeToString(plain)
}

// timeText writes a time of day or a timestamp in the unit of its column.
func timeText(column *pqschema.Column, t schema.Type, v int64) string {
	unit := pqschema.TimeUnitMicros
	switch logical := column.LogicalType().(type) {
	case pqschema.TimestampLogicalType:
		unit = logical.TimeUnit()
	case pqschema.TimeLogicalType:
		unit = logical.TimeUnit()
	}
	at := time.UnixMicro(v)
	switch unit {
	case pqschema.TimeUnitMillis:
		at = time.UnixMilli(v)
	case pqschema.TimeUnitNanos:
		at = time.Unix(0, v)
	}
	switch t.Kind {
	case schema.Time:
		return at.UTC().Format("15:04:05.999999")
	case schema.TimestampTz:
		return at.UTC().Format("2006-01-02T15:04:05.999999Z")
	case schema.TimestampNs:
		return at.UTC().Format("2006-01-02T15:04:05.999999999")
	case schema.TimestampTzNs:
		return at.UTC().Format("2006-01-02T15:04:05.999999999Z")
	}
	return at.UTC().Format("2006-01-02T15:04:05.999999")
}

// fixedWidth tells whether plain bytes have the length that the column's physical type has, which damaged statistics may not.
func fixedWidth(column *pqschema.Column, plain []byte) bool {
	switch column.PhysicalType() {
	case parquet.Types.Int32, parquet.Types.Float:
		return len(plain) == 4
	case parquet.Types.Int64, parquet.Types.Double:
		return len(plain) == 8
	case parquet.Types.Boolean:
		return len(plain) == 1
	case parquet.Types.FixedLenByteArray:
		return len(plain) == column.TypeLength()
	}
	return true
}
