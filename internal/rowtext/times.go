package rowtext

import (
	"time"

	"github.com/apache/arrow-go/v18/arrow"
)

const (
	microsPerDay    = 86_400_000_000
	microsPerSecond = 1_000_000
	// firstDay and lastDay are those of the years that are written with four digits, counted from 1970.
	firstDay, lastDay = -719528, 2932896
)

// twoDigits are the numbers below 100.
var twoDigits = func() (out [200]byte) {
	for i := range 100 {
		out[2*i], out[2*i+1] = byte('0'+i/10), byte('0'+i%10)
	}
	return out
}()

func appendTwo(dst []byte, n int) []byte { return append(dst, twoDigits[2*n], twoDigits[2*n+1]) }

// appendDay writes a day counted from 1970 as 2031-05-03.
func appendDay(dst []byte, day int64) []byte {
	if day < firstDay || day > lastDay {
		return time.Unix(day*86400, 0).UTC().AppendFormat(dst, "2006-01-02")
	}
	// Years begin in March here, so that the odd day is the last of one; days are counted in periods of 400 years, in which the
	// calendar repeats.
	const period, toMarch = 146097, 719468
	z := day + toMarch
	periods := z / period
	if z < 0 {
		periods = (z - period + 1) / period
	}
	of := z - periods*period
	year := (of - of/1460 + of/36524 - of/146096) / 365
	of -= 365*year + year/4 - year/100
	shifted := (5*of + 2) / 153
	dayOfMonth, month := of-(153*shifted+2)/5+1, shifted+3
	if year += 400 * periods; month > 12 {
		month, year = month-12, year+1
	}
	dst = appendTwo(appendTwo(dst, int(year/100)), int(year%100))
	dst = append(appendTwo(append(dst, '-'), int(month)), '-')
	return appendTwo(dst, int(dayOfMonth))
}

// appendTimeOfDay writes microseconds since midnight as 15:04:05.999999, without zeros at the end of the fraction.
func appendTimeOfDay(dst []byte, micros int64) []byte {
	seconds, fraction := int(micros/microsPerSecond), int(micros%microsPerSecond)
	dst = append(appendTwo(dst, seconds/3600), ':')
	dst = append(appendTwo(dst, seconds/60%60), ':')
	dst = appendTwo(dst, seconds%60)
	if fraction == 0 {
		return dst
	}
	dst = appendTwo(appendTwo(appendTwo(append(dst, '.'), fraction/10000), fraction/100%100), fraction%100)
	for dst[len(dst)-1] == '0' {
		dst = dst[:len(dst)-1]
	}
	return dst
}

// appendTime writes a time of day in microseconds.
func appendTime(dst []byte, micros int64) []byte {
	if micros < 0 || micros >= microsPerDay {
		return time.UnixMicro(micros).UTC().AppendFormat(dst, "15:04:05.999999")
	}
	return appendTimeOfDay(dst, micros)
}

// appendTimestamp writes a timestamp of a type.
func appendTimestamp(dst []byte, v int64, t *arrow.TimestampType) []byte {
	if t.Unit == arrow.Nanosecond {
		dst = time.Unix(0, v).UTC().AppendFormat(dst, "2006-01-02T15:04:05.999999999")
	} else {
		day, of := v/microsPerDay, v%microsPerDay
		if of < 0 {
			day, of = day-1, of+microsPerDay
		}
		dst = appendTimeOfDay(append(appendDay(dst, day), 'T'), of)
	}
	if t.TimeZone != "" {
		dst = append(dst, 'Z')
	}
	return dst
}
