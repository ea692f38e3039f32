package json

import (
	"encoding/binary"
	"math/rand/v2"
	"strings"
	"testing"
)

// values are ones that the short ways take, and ones that they must leave alone.
var values = []string{"0", "-7", "12.5", "-0.25", "12345678", "123456789", "1e5", "007", "-", "1.", "--1", "true", "false", "null", "truely", "nul", `""`, `"calm"`,
	`"a swell from the west"`, `"drift \"north\""`, `"\u00e9"`, `"é"`, "\"tab\there\"", `"open`, "[1]", "{}", "x", ""}

// TestShortWaysAgree compares what the short ways take with what the long ones do, and holds that they leave all else where it was.
func TestShortWaysAgree(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 8))
	taken := 0
	for range 100_000 {
		text := []string{"", " ", "\n"}[random.IntN(3)] + values[random.IntN(len(values))] + []string{"", ",", "}", "]", " ,", ":", "9"}[random.IntN(7)] + `"more":[1,2,3],"of":"it"`[:random.IntN(24)]
		var short, long Scanner
		short.Reset([]byte(text))
		long.Reset([]byte(text))
		var got, want []byte
		var ok bool
		kind := long.Peek()
		switch random.IntN(4) {
		case 0:
			var word uint64
			var n int
			if word, n, ok = short.ShortNumber(); ok {
				got = binary.LittleEndian.AppendUint64(nil, word)[:n]
				// What is no number of JSON after all is told by who reads the digits.
				if kind != Number {
					continue
				}
				if want = long.Number(); long.Err() != nil || long.Pos() != short.Pos() {
					continue
				}
			}
		case 1:
			if got, ok = short.PlainString(); ok {
				want, _ = long.String()
			}
		case 2:
			var value bool
			if value, ok = short.PlainBoolean(); ok {
				got, want = []byte{'f'}, long.Literal()[:1]
				if value {
					got[0] = 't'
				}
			}
		case 3:
			at := short.Pos()
			if c := short.Ahead(); c != 0 && c != text[short.Pos()] {
				t.Fatalf("%q: ahead is %q", text, c)
			}
			if ok = short.PlainNull(); ok {
				got, want = []byte("null"), long.Literal()
			} else if short.Pos() > at+1 {
				t.Fatalf("%q: %d bytes were passed over for nothing", text, short.Pos())
			}
		}
		switch {
		case ok && (string(got) != string(want) || short.Pos() != long.Pos() || long.Err() != nil):
			t.Fatalf("%q: the short way takes %q up to %d, the long one %q up to %d, %v", text, got, short.Pos(), want, long.Pos(), long.Err())
		case ok:
			taken++
		case short.Err() != nil || short.Pos() > 1:
			t.Fatalf("%q: the short way takes nothing, but is at %d with %v", text, short.Pos(), short.Err())
		}
	}
	if taken < 5_000 {
		t.Errorf("only %d values were taken the short way", taken)
	}
}

// TestExpectedKeys holds that an expected key is passed over as any key is, and that nothing is where it is another.
func TestExpectedKeys(t *testing.T) {
	area := NewKey("area")
	for _, text := range []string{`"area":1`, `,"area":1`, `, "area":1`, `"areas":1`, `,"Area":1`, `"area" :1`, `,`, ``, `,"area"`, `}`, `,,"area":1`} {
		for n := range 2 {
			var short, long Scanner
			short.Reset([]byte(text))
			long.Reset([]byte(text))
			if !short.Expect(n, &area) {
				if short.Pos() != 0 || short.Err() != nil {
					t.Errorf("%s: nothing is expected, but it is at %d", text, short.Pos())
				}
				continue
			}
			if key, _, ok := long.NextKey(n); !ok || string(key) != "area" || long.Pos() != short.Pos() {
				t.Errorf("%s: expected up to %d, the next key is %q up to %d", text, short.Pos(), key, long.Pos())
			}
		}
	}
}

// TestKeysOfAllLengths expects keys where they are, where another of the same length is, and where the text ends too early.
func TestKeysOfAllLengths(t *testing.T) {
	for _, name := range []string{"", "a", "area", "depth", "position", "observed_at", "wave_height_m", "wave_height_metres", "høyde", "a\"b", "a\\b"} {
		key := NewKey(name)
		var s Scanner
		s.Reset([]byte(`"` + name + `":1`))
		plain := !strings.ContainsAny(name, "\"\\")
		if s.Expect(0, &key) != plain {
			t.Errorf("%q is expected, and not found", name)
		}
		for at := range name {
			other := []byte(`"` + name + `":1`)
			other[at+1] ^= 1
			s.Reset(other)
			if s.Expect(0, &key) || s.Pos() != 0 {
				t.Errorf("%q is expected, and found in %s", name, other)
			}
		}
		for n := range len(name) + 3 {
			s.Reset([]byte(`"` + name + `":1`)[:n:n])
			if s.Expect(0, &key) {
				t.Errorf("%q is expected, and found in %d bytes", name, n)
			}
		}
	}
}
