package json

import (
	"encoding/binary"
	"math/rand/v2"
	"strings"
	"testing"
)

// values are ones that JSON has, and others.
var values = []string{"0", "-7", "12.5", "-0.25", "12345678", "123456789", "-1234567.25e-12", "1E+5", "1e5", "007", "-", "1.", "--1",
	"1e", "true", `""`, `"calm"`,
	`"a swell from the west"`, `"drift \"north\""`, `"\u00e9"`, `"é"`, "\"tab\there\"", `"open`, `"\x"`, `"\u12"`, "[1]", "{}", "x", ""}

// TestEndsAreThoseOfAScanner compares the ends of strings and numbers with those at which a Scanner arrives.
func TestEndsAreThoseOfAScanner(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 8))
	strs, numbers := 0, 0
	for range 100_000 {
		value := values[random.IntN(len(values))]
		before := strings.Repeat("x", random.IntN(20))
		text := []byte(before + value + []string{"", ",", "}", "]", " ,", ":", "\n"}[random.IntN(7)])
		data := append(text[:len(text):len(text)], `"more":[1,2,3],"of":"it"`[:random.IntN(24)]...)
		var s Scanner
		s.Reset(text[len(before):])
		switch {
		case strings.HasPrefix(value, `"`):
			raw, wantEscaped := s.String()
			end, escaped := StringEnd(data, len(before)+1)
			if end >= 0 && s.Err() == nil && (end != len(before)+1+len(raw) || escaped != wantEscaped) {
				t.Fatalf("%q ends at %d, escaped %v; a scanner is at %d, %v", data, end, escaped, len(before)+s.Pos(), wantEscaped)
			}
			if end < 0 && s.Err() == nil && len(data) >= len(before)+len(value)+Margin || end >= 0 && s.Err() != nil && value != `"open` {
				t.Fatalf("%q ends at %d, and a scanner says %v", data, end, s.Err())
			}
			strs++
		case value != "" && (value[0] == '-' || value[0] >= '0' && value[0] <= '9'):
			s.Number()
			end := NumberEnd(data, len(before))
			if got, isOne := string(data[len(before):end]), IsNumber(data[len(before):end]); s.Err() == nil && s.Pos() == len(value) && len(data) >= len(before)+len(value)+Margin && (!isOne || got != value) {
				t.Fatalf("%q is a number up to %q, which is one: %v", data, got, isOne)
			}
			if IsNumber([]byte(value)) != (s.Err() == nil && s.Pos() == len(value)) {
				t.Fatalf("%q is a number: %v; a scanner is at %d with %v", value, IsNumber([]byte(value)), s.Pos(), s.Err())
			}
			numbers++
		}
	}
	if strs < 10_000 || numbers < 10_000 {
		t.Errorf("%d strings and %d numbers were looked at", strs, numbers)
	}
	if IsNumber(nil) {
		t.Error("an empty text is a number")
	}
}

// TestStopsAreTheFirstBytes holds the lowest bits of stops against a loop over the bytes.
func TestStopsAreTheFirstBytes(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 8))
	first := func(mask uint64) int {
		for i := range 8 {
			if mask>>(8*i+7)&1 == 1 {
				return i
			}
		}
		return 8
	}
	for range 100_000 {
		var text [8]byte
		for i := range text {
			text[i] = "0123456789.-abcé\"\\\x00\x1f\x7f\xff,}"[random.IntN(25)]
		}
		word := binary.LittleEndian.Uint64(text[:])
		wantString, wantNumber := 8, 8
		for i := 7; i >= 0; i-- {
			if c := text[i]; c == '"' || c == '\\' || c < ' ' {
				wantString = i
			}
			if !strings.ContainsRune("0123456789.-", rune(text[i])) {
				wantNumber = i
			}
		}
		if got := first(StringStop(word)); got != wantString {
			t.Fatalf("a string stops in %q at %d, want %d", text, got, wantString)
		}
		if strings.Contains(string(text[:]), "-,") {
			continue // no number ends like that
		}
		if got := first(NumberStop(word)); got != wantNumber {
			t.Fatalf("a number stops in %q at %d, want %d", text, got, wantNumber)
		}
	}
}

// TestKeysOfAllLengths looks for keys where they are, where another of the same length is, and where the text ends too early.
func TestKeysOfAllLengths(t *testing.T) {
	is := func(k *Key, text string) bool {
		var head [16]byte
		copy(head[:], text)
		return k.Is(binary.LittleEndian.Uint64(head[:]), binary.LittleEndian.Uint64(head[8:]))
	}
	for _, name := range []string{"", "a", "area", "depth", "position", "observed_at", "wave_height_m", "wave_height_metres", "høyde", "a\"b", "a\\b", "line\nfeed"} {
		key := NewKey(name)
		text := `"` + name + `":1`
		plain := !strings.ContainsAny(name, "\"\\\n")
		if is(&key, text) != plain || (key.At([]byte(text), 0) > 0) != plain {
			t.Errorf("%q stands in %s: %v, up to %d", name, text, is(&key, text), key.At([]byte(text), 0))
		}
		if plain && (key.Size() != len(name)+3 || key.At([]byte("x"+text), 1) != len(name)+4) {
			t.Errorf("%q takes %d bytes, up to %d", name, key.Size(), key.At([]byte("x"+text), 1))
		}
		for at := range name {
			other := []byte(text)
			other[at+1] ^= 1
			if at+1 < 16 && is(&key, string(other)) || key.At(other, 0) > 0 {
				t.Errorf("%q is found in %s", name, other)
			}
		}
		for n := range len(name) + 3 {
			if n < 16 && is(&key, text[:n]) || key.At([]byte(text[:n]), 0) > 0 {
				t.Errorf("%q is found in %q", name, text[:n])
			}
		}
	}
}

func TestSpace(t *testing.T) {
	for text, want := range map[string]int{"": 0, "x": 0, "  x": 2, " \t\r\n": 4, "\v": 0, " \u00a0": 1} {
		if got := Space([]byte(text), 0); got != want {
			t.Errorf("the white space of %q ends at %d, want %d", text, got, want)
		}
	}
}
