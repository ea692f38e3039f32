package sheet

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// text2JSON writes a text as JSON; an empty one is no value.
func text2JSON(text []byte) []byte {
	if len(text) == 0 {
		return nil
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	// A text can always be encoded.
	_ = e.Encode(string(text))
	return bytes.TrimRight(b.Bytes(), "\n")
}

// number writes a number as JSON, every digit as it stands where that is JSON.
func number(text string) []byte {
	if raw := []byte(text); json.Valid(raw) && (raw[0] == '-' || raw[0]-'0' <= 9) {
		return raw
	}
	if v, err := strconv.ParseFloat(text, 64); err == nil && !math.IsInf(v, 0) && !math.IsNaN(v) {
		return strconv.AppendFloat(nil, v, 'g', -1, 64)
	}
	return text2JSON([]byte(text))
}

// dateKind is what numbers of a format mean.
type dateKind uint8

const (
	noDate dateKind = iota
	aDate
	aTime
	both
)

// builtIn are the formats of dates that have no code (ISO/IEC 29500-1, 18.8.30).
var builtIn = map[string]dateKind{"14": aDate, "15": aDate, "16": aDate, "17": aDate, "18": aTime, "19": aTime, "20": aTime, "21": aTime,
	"22": both, "45": aTime, "47": aTime,
	"27": aDate, "28": aDate, "29": aDate, "30": aDate, "31": aDate, "36": aDate, "50": aDate, "51": aDate, "52": aDate, "53": aDate,
	"54": aDate, "57": aDate, "58": aDate}

// kindOf tells what a format code makes of a number (18.8.31): letters outside quotes and brackets say it. Elapsed times, as in
// [h]:mm, are numbers.
func kindOf(code string) dateKind {
	code, _, _ = strings.Cut(code, ";")
	var letters strings.Builder
	for i := 0; i < len(code); i++ {
		switch c := code[i]; c {
		case '"':
			if end := strings.IndexByte(code[i+1:], '"'); end >= 0 {
				i += end + 1
			}
		case '\\', '_', '*':
			i++
		case '[':
			end := strings.IndexByte(code[i:], ']')
			if end < 0 {
				return noDate
			}
			if inside := strings.ToLower(code[i+1 : i+end]); inside != "" && strings.Trim(inside, "hms") == "" {
				return noDate
			}
			i += end
		default:
			letters.WriteByte(c | 0x20)
		}
	}
	text := letters.String()
	if strings.Contains(text, "general") {
		return noDate
	}
	day, clock := strings.ContainsAny(text, "yd"), strings.ContainsAny(text, "hs")
	switch {
	case day && clock:
		return both
	case clock:
		return aTime
	case day, strings.Contains(text, "mm"):
		return aDate
	}
	return noDate
}

// Dates are counted from days1900 or days1904, since 1970-01-01. The former counts 1900-02-29, which there was not, so that it
// begins a day early and days before 1900-03-01 are one more.
var (
	days1900 = daysOf(1899, 12, 30)
	days1904 = daysOf(1904, 1, 1)
)

func daysOf(year int, month time.Month, day int) int {
	return int(time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// lastSerial is 9999-12-31 and what comes of it.
const lastSerial = 2958466

// moment writes a number that means a date or a time in the form of ISO 8601, to the millisecond.
func moment(text string, kind dateKind, since int) (string, bool) {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || v < 0 || v >= lastSerial {
		return "", false
	}
	days := math.Floor(v)
	millis := int64(math.Round((v - days) * 86_400_000))
	if millis == 86_400_000 {
		days, millis = days+1, 0
	}
	if since == days1900 && days < 60 {
		days++
	}
	clock := fmt.Sprintf("%02d:%02d:%02d", millis/3_600_000, millis/60_000%60, millis/1000%60)
	if ms := millis % 1000; ms > 0 {
		clock += fmt.Sprintf(".%03d", ms)
	}
	day := time.Unix((int64(since)+int64(days))*86400, 0).UTC().Format("2006-01-02")
	switch {
	case kind == aTime && v < 1:
		return clock, true
	case kind == aDate && millis == 0:
		return day, true
	case kind == aTime && since == days1900 && v < 1:
		return clock, true
	}
	return day + "T" + clock, true
}
