package lexical

import (
	"fmt"
	"math/big"
	"strings"
	"testing"
)

func TestDecimal(t *testing.T) {
	for _, test := range []struct {
		text             string
		precision, scale int
		strict, stated   string
	}{
		{"12.5", 5, 2, "1250", "1250"}, {"-0.05", 5, 2, "-5", "-5"}, {"0", 1, 0, "0", "0"}, {"999.99", 5, 2, "99999", "99999"},
		{"1000", 5, 2, "", ""},
		{"1.234", 5, 2, "", ""}, {"1.230", 5, 2, "123", "123"}, {"+1", 5, 2, "", "100"}, {"007", 5, 2, "", "700"},
		{"1e2", 5, 2, "", "10000"}, {"1.5e-1", 5, 2, "", "15"},
		{"99999999999999999999999999999999999999", 38, 0, "99999999999999999999999999999999999999",
			"99999999999999999999999999999999999999"},
		{"-99999999999999999999999999999999999999", 38, 0, "-99999999999999999999999999999999999999",
			"-99999999999999999999999999999999999999"},
		{"100000000000000000000000000000000000000", 38, 0, "", ""}, {"", 5, 2, "", ""}, {"-", 5, 2, "", ""}, {".", 5, 2, "", ""},
		{"1.", 5, 2, "", ""}, {"1e", 5, 2, "", ""}, {"x", 5, 2, "", ""},
	} {
		for i, read := range []func([]byte, int, int) (Unscaled, bool){Decimal, StatedDecimal} {
			want := []string{test.strict, test.stated}[i]
			u, ok := read([]byte(test.text), test.precision, test.scale)
			if got := unscaledText(u); ok != (want != "") || ok && got != want {
				t.Errorf("%q as decimal(%d,%d), stated %v: %s, %v, want %q", test.text, test.precision, test.scale, i == 1, got, ok, want)
			}
		}
	}
}

func unscaledText(u Unscaled) string {
	v := new(big.Int).Lsh(big.NewInt(u.High), 64)
	return v.Add(v, new(big.Int).SetUint64(u.Low)).String()
}

// FuzzDecimal holds decimals against exact rational numbers.
func FuzzDecimal(f *testing.F) {
	f.Add("12.5", uint8(2))
	f.Add("-0.00100", uint8(3))
	f.Add("1e-3", uint8(6))
	f.Fuzz(func(t *testing.T, text string, scale uint8) {
		s := int(scale % 39)
		for _, read := range []func([]byte, int, int) (Unscaled, bool){Decimal, StatedDecimal} {
			u, ok := read([]byte(text), 38, s)
			if !ok {
				continue
			}
			want, fine := new(big.Rat).SetString(strings.TrimPrefix(text, "+"))
			if !fine {
				t.Fatalf("%q is taken for a decimal", text)
			}
			want.Mul(want, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(s)), nil)))
			if !want.IsInt() || want.Num().String() != unscaledText(u) {
				t.Fatalf("%q with scale %d: %s, want %s", text, s, unscaledText(u), want)
			}
		}
	})
}

func TestPlain(t *testing.T) {
	for _, test := range []struct {
		text string
		mark byte
		want string
	}{
		{"1.234,5", ',', "1234.5"}, {"0,25", ',', "0.25"}, {"12", ',', "12"}, {"1 234 567,8", ',', "1234567.8"}, {"1'234", ',', "1234"},
		{"-1.000", ',', "-1000"},
		{"1,234.5", '.', "1234.5"}, {"12.5", '.', "12.5"}, {"1\u00a0234", ',', "1234"}, {"1,5e3", ',', "1.5e3"},
		{"12.5", ',', ""}, {"1.23", ',', ""}, {"1.2345", ',', ""}, {"1234.567", ',', ""}, {"1.234.56", ',', ""}, {"1.234 567", ',', ""},
		{"x", ',', ""}, {"", ',', ""}, {"1,2,3", ',', ""},
	} {
		var scratch []byte
		got, ok := Plain([]byte(test.text), test.mark, &scratch)
		if ok != (test.want != "") || string(got) != test.want {
			t.Errorf("%q with %c: %q, %v, want %q", test.text, test.mark, got, ok, test.want)
		}
	}
}

func TestPattern(t *testing.T) {
	for _, test := range []struct{ pattern, text, want string }{
		{"%d.%m.%Y", "23.04.2031", "22392 0"}, {"%d.%m.%Y", "3.4.2031", "22372 0"}, {"%d.%m.%Y", "31.02.2031", ""},
		{"%d.%m.%Y", "23.04.31", ""}, {"%d.%m.%Y", "23.04.2031 ", ""},
		{"%m/%d/%y", "04/23/31", "22392 0"}, {"%m/%d/%y", "04/23/71", "477 0"}, {"%Y%m%d", "20310423", "22392 0"},
		{"%Y%m%d", "2031423", ""},
		{"%d %b %Y", "23 Apr 2031", "22392 0"}, {"%d %B %Y", "23 april 2031", "22392 0"},
		{"%A %e %B %Y", "Wednesday  3 April 2031", "22372 0"}, {"%Y-%j", "2031-113", "22392 0"},
		{"%Y-%j", "2031-366", ""}, {"%F %T", "2031-04-23 10:15:30.25", "22392 36930250000"}, {"%F %H:%M", "2031-04-23 24:00", ""},
		{"%d/%m/%Y %I:%M %p", "23/04/2031 12:05 AM", "22392 300000000"},
		{"%d/%m/%Y %I:%M %p", "23/04/2031 01:05 pm", "22392 47100000000"}, {"%FT%T%z", "2031-04-23T01:00:00+0200", "22391 82800000000"},
		{"%F %T %Z", "2031-04-23 01:00:00 UTC", "22392 3600000000"},
		{"%F %H%M%S%f", "2031-04-23 0100005", "22392 3600500000"}, {"%H.%M", "7.30", "0 27000000000"}, {"epoch", "1935360000", "22400 0"},
		{"epoch", "-1", "-1 86399000000"}, {"epoch", "1.5", "0 1500000"},
		{"epoch_ms", "1935360000001", "22400 1000"}, {"epoch_us", "1", "0 1"}, {"epoch", "99999999999999", ""}, {"%s", "86400", "1 0"},
		{"100%%%Y", "100%2031", ""},
	} {
		p, err := CompilePattern(test.pattern)
		if err != nil {
			t.Errorf("%s: %v", test.pattern, err)
			continue
		}
		days, micros, ok := p.Read([]byte(test.text))
		got := ""
		if ok {
			got = fmt.Sprint(days, " ", micros)
		}
		if test.pattern == "100%%%Y" {
			test.want = "22280 0"
		}
		if got != test.want {
			t.Errorf("%q as %s: %q, want %q", test.text, test.pattern, got, test.want)
		}
	}
	for _, bad := range []string{"", "%", "x", "%Q", "%%", "%d.%"} {
		if _, err := CompilePattern(bad); err == nil {
			t.Errorf("%q is taken for a pattern", bad)
		}
	}
}

// FuzzPattern reads any text by any pattern: there is a moment within the calendar or none.
func FuzzPattern(f *testing.F) {
	f.Add("%d.%m.%Y %H:%M:%S", "23.04.2031 10:15:30.5")
	f.Add("%I %p %j %y", "12 am 366 00")
	f.Add("epoch_ms", "-1.5")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		p, err := CompilePattern(pattern)
		if err != nil {
			return
		}
		if _, micros, ok := p.Read([]byte(text)); ok && (micros < 0 || micros >= MicrosPerDay) {
			t.Fatalf("%q as %q: %d microseconds of a day", text, pattern, micros)
		}
	})
}

func TestUUID(t *testing.T) {
	const text = "6ba7b810-9dad-11d1-80b4-00c04fd430c8"
	if id, ok := UUID([]byte(text)); !ok || id[0] != 0x6b || id[15] != 0xc8 {
		t.Errorf("%x, %v", id, ok)
	}
	for _, other := range []string{strings.ToUpper(text), "{" + text + "}", strings.ReplaceAll(text, "-", "")} {
		if _, ok := UUID([]byte(other)); ok {
			t.Errorf("%s would not come back the same", other)
		}
		if id, ok := StatedUUID([]byte(other)); !ok || id[15] != 0xc8 {
			t.Errorf("%s: %x, %v", other, id, ok)
		}
	}
	for _, bad := range []string{"", text[1:], strings.Replace(text, "6", "g", 1), strings.ReplaceAll(text, "-", "_")} {
		if _, ok := StatedUUID([]byte(bad)); ok {
			t.Errorf("%s is taken for a uuid", bad)
		}
	}
}

func TestInside(t *testing.T) {
	for _, test := range []struct{ text, format, want string }{
		{"45 %", "#%", "45"}, {"€ 12", "€ #", "12"}, {"€12", "€ #", "12"}, {"12 m", "# m", "12"}, {"12", "#%", ""}, {"12%", "€#", ""},
	} {
		if got, ok := Inside([]byte(test.text), test.format); ok != (test.want != "") || ok && string(got) != test.want {
			t.Errorf("%q in %q: %q, %v", test.text, test.format, got, ok)
		}
	}
}

// FuzzMeasure holds the quick reading of plain numbers against the thorough one.
func FuzzMeasure(f *testing.F) {
	for _, text := range []string{"0", "-0", "0.5", "12.50", "-3.25", "999999999999999", "9999999999999999", "1.", ".5", "00", "1e5"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, ok := Measure([]byte(text))
		if !ok {
			return
		}
		v, fine := StatedDouble([]byte(text))
		s, shaped := NumberShape([]byte(text))
		if !fine || !shaped || v != m.Value || s.Exponent || !s.Lossless || s.Fraction != m.Fraction {
			t.Fatalf("%q: %+v, thoroughly %v %+v", text, m, v, s)
		}
	})
}
