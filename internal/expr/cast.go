package expr

import (
	"math"
	"time"

	"trevak/internal/lexical"
	"trevak/internal/schema"
)

// castOne makes of a value one of another kind, alone in a vector; ok is false when that cannot hold it. Of texts it takes what
// a column of the kind takes whose type was stated. scale is that of decimals.
func castOne(kind schema.Kind, in *vector, i, scale int) (out *vector, ok bool) {
	out = newVector(kind, 1)
	if in.kind == schema.String {
		return out, castText(out, []byte(in.texts[i]))
	}
	if in.kind == schema.Decimal {
		return out, fromDecimal(out, in.decimals[i], scale)
	}
	switch kind {
	case schema.String:
		out.texts[0] = textOf(in, i, scale)
		return out, true
	case schema.Double:
		if in.kind == schema.Long {
			out.doubles[0] = float64(in.longs[i])
		}
		return out, in.kind == schema.Long
	case schema.Long:
		if in.kind == schema.Double {
			// Towards zero, as the standard allows.
			v := math.Trunc(in.doubles[i])
			out.longs[0] = int64(v)
			return out, v >= math.MinInt64 && v < math.MaxInt64
		}
	case schema.Date:
		if in.kind == schema.Timestamp || in.kind == schema.TimestampTz {
			out.longs[0] = floorDays(in.longs[i])
			return out, true
		}
	case schema.Time:
		if in.kind == schema.Timestamp || in.kind == schema.TimestampTz {
			out.longs[0] = in.longs[i] - floorDays(in.longs[i])*lexical.MicrosPerDay
			return out, true
		}
	case schema.Timestamp, schema.TimestampTz:
		switch in.kind {
		case schema.Date:
			out.longs[0] = in.longs[i] * lexical.MicrosPerDay
			return out, true
		case schema.Timestamp, schema.TimestampTz:
			out.longs[0] = in.longs[i]
			return out, true
		}
	}
	return out, false
}

// castText reads a text into the only value of a vector.
func castText(out *vector, text []byte) (ok bool) {
	switch out.kind {
	case schema.Long:
		out.longs[0], ok = lexical.StatedLong(text)
	case schema.Double:
		out.doubles[0], ok = lexical.StatedDouble(text)
	case schema.Boolean:
		out.flags[0], ok = lexical.StatedBoolean(text)
	case schema.Date:
		var days int32
		days, ok = lexical.Date(text)
		out.longs[0] = int64(days)
	case schema.Time:
		out.longs[0], ok = lexical.Time(text)
	case schema.Timestamp, schema.TimestampTz:
		var zoned bool
		out.longs[0], zoned, ok = lexical.Timestamp(text)
		ok = ok && zoned == (out.kind == schema.TimestampTz)
	}
	return ok
}

func floorDays(micros int64) int64 {
	days := micros / lexical.MicrosPerDay
	if micros%lexical.MicrosPerDay < 0 {
		days--
	}
	return days
}

// partOf returns a part of an instant, which is in UTC.
func partOf(part string, micros int64) int64 {
	t := time.UnixMicro(micros).UTC()
	switch part {
	case "YEAR":
		return int64(t.Year())
	case "MONTH":
		return int64(t.Month())
	case "DAY":
		return int64(t.Day())
	case "HOUR":
		return int64(t.Hour())
	case "MINUTE":
		return int64(t.Minute())
	}
	return int64(t.Second())
}

// instantText writes a date or timestamp as the standard does.
func instantText(kind schema.Kind, v int64) string {
	switch kind {
	case schema.Date:
		return time.Unix(v*86_400, 0).UTC().Format(time.DateOnly)
	case schema.Time:
		return time.UnixMicro(v).UTC().Format("15:04:05.999999")
	case schema.TimestampTz:
		return time.UnixMicro(v).UTC().Format("2006-01-02 15:04:05.999999Z07:00")
	}
	return time.UnixMicro(v).UTC().Format("2006-01-02 15:04:05.999999")
}
