package lexical

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"testing"
	"time"
)

func TestLong(t *testing.T) {
	tests := []struct {
		text   string
		strict bool
		stated bool
		want   int64
	}{
		{"0", true, true, 0}, {"7", true, true, 7}, {"-12", true, true, -12},
		{"9223372036854775807", true, true, math.MaxInt64}, {"-9223372036854775808", true, true, math.MinInt64},
		{"9223372036854775808", false, false, 0}, {"-9223372036854775809", false, false, 0}, {"99999999999999999999", false, false, 0},
		{"007", false, true, 7}, {"+5", false, true, 5}, {"-0", false, true, 0}, {"00000000000000000000001", false, true, 1},
		{"", false, false, 0}, {"-", false, false, 0}, {"+", false, false, 0}, {"1 ", false, false, 0}, {"1.0", false, false, 0},
		{"1e3", false, false, 0}, {"0x1", false, false, 0},
	}
	for _, test := range tests {
		if v, ok := Long([]byte(test.text)); ok != test.strict || ok && v != test.want {
			t.Errorf("Long(%q) = %d, %v", test.text, v, ok)
		}
		if v, ok := StatedLong([]byte(test.text)); ok != test.stated || ok && v != test.want {
			t.Errorf("StatedLong(%q) = %d, %v", test.text, v, ok)
		}
	}
}

func TestTimestampNanos(t *testing.T) {
	for text, want := range map[string]int64{"1970-01-01T00:00:00.000000001": 1, "1969-12-31T23:59:59.999999999": -1,
		"1970-01-01 00:00:01": 1e9, "1970-01-01T00:00:00,1234567": 123456700, "1970-01-01T01:00:00.000000009+01:00": 9,
		"2262-04-11T23:47:16.854774": 9223372036854774000} {
		if v, _, ok := TimestampNanos([]byte(text)); !ok || v != want {
			t.Errorf("%s: %d, %v, want %d", text, v, ok, want)
		}
	}
	for _, text := range []string{"", "2031-05-01", "2031-05-01T10:15:30.1234567890", "2263-01-01T00:00:00", "1600-01-01T00:00:00",
		"2031-05-01T10:15:30.12345678x", "."} {
		if v, _, ok := TimestampNanos([]byte(text)); ok {
			t.Errorf("%s: %d", text, v)
		}
	}
}

func TestWholeLong(t *testing.T) {
	for text, want := range map[string]int64{"12": 12, "12.0": 12, "-3.000": -3, "1.2e1": 12, "7.692024e+06": 7692024, "0.0": 0, "5.": 5,
		"120e-1": 12, "9223372036854775807.0": 9223372036854775807} {
		if v, ok := WholeLong([]byte(text)); !ok || v != want {
			t.Errorf("%s: %d, %v", text, v, ok)
		}
	}
	for _, text := range []string{"", "12.5", "1e-1", "1e30", "9223372036854775808.0", "+1.0", "01.0", "x", "1.2e0"} {
		if v, ok := WholeLong([]byte(text)); ok {
			t.Errorf("%s: %d", text, v)
		}
	}
}

func TestDouble(t *testing.T) {
	tests := []struct {
		text           string
		strict, stated bool
	}{
		{"1.5", true, true}, {"-0.25", true, true}, {".5", true, true}, {"-.5", true, true}, {"1e3", true, true}, {"1.5E-3", true, true},
		{"0", true, true}, {"-0", true, true},
		{"9007199254740992", true, true}, {"9007199254740993", false, true}, {"12345678901234567.8", false, true},
		{"0.12345678901234567", true, true},
		{"1.7976931348623157e308", true, true}, {"1e309", false, false}, {"1e-400", false, true}, {"4.9e-324", true, true},
		{"01.5", false, true}, {"00", false, true}, {"+1.5", false, true}, {".", false, false}, {"", false, false}, {"1e", false, false},
		{"1,5", false, false}, {"1e99999", false, false},
		{"5.", true, true}, {"1.800000000000000000e+01", true, true}, {"6.320000000000000097e-03", true, true},
		{"0.1000000000000000055511151231257827", true, true},
		{"0.1000000000000000055511151231257828", false, true}, {"6.320000000000000098e-03", false, true},
		{"1.50000000000000000000000", true, true},
		{"NaN", false, true}, {"-inf", false, true}, {"Infinity", false, true}, {"-nan", false, false}, {"infinite", false, false},
	}
	for _, test := range tests {
		v, ok := Double([]byte(test.text))
		if ok != test.strict {
			t.Errorf("Double(%q) = %g, %v", test.text, v, ok)
		}
		stated, ok := StatedDouble([]byte(test.text))
		if ok != test.stated {
			t.Errorf("StatedDouble(%q) = %g, %v", test.text, stated, ok)
		}
		if want, err := strconv.ParseFloat(test.text, 64); err == nil && ok && stated != want &&
			!(math.IsNaN(stated) && math.IsNaN(want)) {
			t.Errorf("StatedDouble(%q) = %g, want %g", test.text, stated, want)
		}
	}
}

func TestTemporal(t *testing.T) {
	micros := func(layout, text string) int64 {
		at, err := time.Parse(layout, text)
		if err != nil {
			t.Fatal(err)
		}
		return at.UnixMicro()
	}
	for _, text := range []string{"1970-01-01", "2000-02-29", "1969-12-31", "0001-01-01", "9999-12-31", "2031-03-01"} {
		want := micros(time.DateOnly, text) / MicrosPerDay
		if d, ok := Date([]byte(text)); !ok || int64(d) != want {
			t.Errorf("Date(%q) = %d, %v, want %d", text, d, ok, want)
		}
	}
	for _, text := range []string{"2031-02-29", "1900-02-29", "2031-13-01", "2031-00-10", "2031-04-31", "0000-01-01", "2031-1-01",
		"2031/01/01", "20310101xx", ""} {
		if d, ok := Date([]byte(text)); ok {
			t.Errorf("Date(%q) = %d", text, d)
		}
	}
	times := map[string]int64{"00:00": 0, "23:59": 86340e6, "01:02:03": 3723e6, "01:02:03.5": 3723500000, "01:02:03.123456": 3723123456}
	for text, want := range times {
		if v, ok := Time([]byte(text)); !ok || v != want {
			t.Errorf("Time(%q) = %d, %v", text, v, ok)
		}
	}
	for _, text := range []string{"24:00", "12:60", "12:00:60", "12:00:00.", "12:00:00.1234567", "1:00", "12:00:0", "12-00"} {
		if v, ok := Time([]byte(text)); ok {
			t.Errorf("Time(%q) = %d", text, v)
		}
	}
	stamps := []struct {
		text, layout string
		zoned        bool
	}{
		{"2031-05-01 01:02:03", "2006-01-02 15:04:05", false}, {"2031-05-01T01:02", "2006-01-02T15:04", false},
		{"2031-05-01T01:02:03.25Z", time.RFC3339Nano, true},
		{"2031-05-01T01:02:03+02:00", time.RFC3339, true}, {"2031-05-01 01:02:03-0530", "2006-01-02 15:04:05-0700", true},
		{"1950-05-01T01:02:03+01", "2006-01-02T15:04:05-07", true},
	}
	for _, s := range stamps {
		if v, zoned, ok := Timestamp([]byte(s.text)); !ok || zoned != s.zoned || v != micros(s.layout, s.text) {
			t.Errorf("Timestamp(%q) = %d, %v, %v", s.text, v, zoned, ok)
		}
	}
	for _, text := range []string{"2031-05-01", "2031-05-01T", "2031-05-01T25:00", "2031-05-01T01:02:03X", "2031-05-01T01:02:03+2",
		"2031-05-01T01:02:03+20:00", "2031-05-01_01:02:03"} {
		if v, _, ok := Timestamp([]byte(text)); ok {
			t.Errorf("Timestamp(%q) = %d", text, v)
		}
	}
}

func TestBoolean(t *testing.T) {
	for text, want := range map[string][2]bool{"true": {true, true}, "FALSE": {true, true}, "yes": {false, true}, "0": {false, true},
		"T": {false, true}, "tru": {}, "": {}} {
		_, strict := Boolean([]byte(text))
		_, stated := StatedBoolean([]byte(text))
		if strict != want[0] || stated != want[1] {
			t.Errorf("%q: %v, %v", text, strict, stated)
		}
	}
}

// FuzzNumbers holds the parsers against the standard library's.
func FuzzNumbers(f *testing.F) {
	for _, seed := range []string{"1.5", "-0", "12345678901234567890", "1e22", "9007199254740993", "0.1e-5", "+7", "1e-320", ".e1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if v, ok := Double([]byte(text)); ok {
			if want, err := strconv.ParseFloat(text, 64); err != nil || want != v {
				t.Fatalf("Double(%q) = %g, the standard library gives %g, %v", text, v, want, err)
			}
		}
		v, ok := Long([]byte(text))
		if want, err := strconv.ParseInt(text, 10, 64); ok && (err != nil || want != v || strconv.FormatInt(v, 10) != text) {
			t.Fatalf("Long(%q) = %d, the standard library gives %d, %v", text, v, want, err)
		} else if err == nil && !ok && strconv.FormatInt(want, 10) == text {
			t.Fatalf("Long(%q) is refused", text)
		}
	})
}

// FuzzTemporal holds the parser of timestamps against the standard library's.
func FuzzTemporal(f *testing.F) {
	for _, seed := range []string{"2031-05-01T01:02:03Z", "2031-05-01T01:02:03.000001+01:00", "0001-01-01T00:00:00Z",
		"2031-02-30T00:00:00Z"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		v, zoned, ok := Timestamp([]byte(text))
		want, err := time.Parse(time.RFC3339Nano, text)
		if ok && zoned && err == nil && v != want.UnixMicro() {
			t.Fatalf("%q: %d, want %d", text, v, want.UnixMicro())
		}
		// The standard library also takes hours of one digit and commas; what it would write itself must be taken here.
		if err == nil && !ok && want.Year() > 0 && want.UTC().Format(time.RFC3339) == text {
			t.Fatalf("%q is refused", text)
		}
	})
}

func BenchmarkDouble(b *testing.B) {
	text := []byte("1003.21")
	for b.Loop() {
		Double(text)
	}
}

func BenchmarkTimestamp(b *testing.B) {
	text := []byte("2031-05-01T01:02:03Z")
	for b.Loop() {
		Timestamp(text)
	}
}

// TestPlainTimestamps compares what is read eight bytes at a time with what is read piece by piece.
func TestPlainTimestamps(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	agreed := 0
	for range 200_000 {
		text := fmt.Appendf(nil, "%04d-%02d-%02d%c%02d:%02d:%02d", random.IntN(4)*random.IntN(2500), random.IntN(14), random.IntN(33),
			"T T t"[random.IntN(5)],
			random.IntN(25), random.IntN(61), random.IntN(61))
		if random.IntN(3) == 0 {
			text[random.IntN(len(text))] = "0123456789-:T /\xff"[random.IntN(16)]
		}
		got, ok := plainTimestamp((*[19]byte)(text))
		if !ok {
			continue
		}
		agreed++
		days, dateOK := Date(text[:10])
		micros, clockOK := Time(text[11:])
		if want := int64(days)*MicrosPerDay + micros; !dateOK || !clockOK || got != want {
			t.Fatalf("%q is %d, and %d %v %v piece by piece", text, got, want, dateOK, clockOK)
		}
	}
	if agreed < 50_000 {
		t.Errorf("only %d timestamps were read", agreed)
	}
	for _, text := range []string{"2031-05-01T01:02:03", "1969-12-31 23:59:59", "2024-02-29T00:00:00", "0001-01-01T00:00:00",
		"9999-12-31T23:59:59"} {
		if _, ok := plainTimestamp((*[19]byte)([]byte(text))); !ok {
			t.Errorf("%s is not read", text)
		}
	}
}
