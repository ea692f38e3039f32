package encode

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
)

// plainTexts puts texts in plain encoding.
func plainTexts(texts []string) []byte {
	var out []byte
	for _, t := range texts {
		out = PlainText(out, []byte(t))
	}
	return out
}

// readLengths decodes n byte strings of the encoding DELTA_LENGTH_BYTE_ARRAY, by the letter of the specification.
func readLengths(t testing.TB, b []byte, n int) []string {
	t.Helper()
	lengths, rest := beginDelta(t, b)
	if len(lengths) != n {
		t.Fatalf("%d lengths, want %d", len(lengths), n)
	}
	out := make([]string, n)
	for i, size := range lengths {
		if size < 0 || size > int64(len(rest)) {
			t.Fatalf("text %d has the length %d, and %d bytes are left", i, size, len(rest))
		}
		out[i], rest = string(rest[:size]), rest[size:]
	}
	if len(rest) > 0 {
		t.Fatalf("%d bytes are left", len(rest))
	}
	return out
}

// samples are lists of texts as they come in columns.
func samples() map[string][]string {
	random := rand.New(rand.NewSource(11))
	words := []string{"", "a", "Cairn Bay", "Cairn Bay East", "über den Wellen", strings.Repeat("long ", 200), "\x00\xff"}
	out := map[string][]string{"none": nil, "one": {"hatch open"}, "empty ones": {"", "", ""},
		"the same": slices.Repeat([]string{"OS-0213"}, 300)}
	for range 500 {
		out["in order"] = append(out["in order"], fmt.Sprintf("mooring of buoy %05d", len(out["in order"])*3))
		out["mixed"] = append(out["mixed"], words[random.Intn(len(words))])
	}
	return out
}

func TestLengthsReadBack(t *testing.T) {
	for name, texts := range samples() {
		got := Lengths([]byte("before"), plainTexts(texts))
		if !bytes.HasPrefix(got, []byte("before")) {
			t.Fatalf("%s: what was there is gone", name)
		}
		if read := readLengths(t, got[6:], len(texts)); !slices.Equal(read, texts) {
			t.Errorf("%s: %q", name, read)
		}
	}
}

func TestPrefixesReadBack(t *testing.T) {
	for name, texts := range samples() {
		got := Prefixes(nil, plainTexts(texts))
		shared, rest := beginDelta(t, got)
		previous := ""
		for i, suffix := range readLengths(t, rest, len(texts)) {
			if shared[i] < 0 || shared[i] > int64(len(previous)) {
				t.Fatalf("%s: text %d shares %d bytes with %q", name, i, shared[i], previous)
			}
			if previous = previous[:shared[i]] + suffix; previous != texts[i] {
				t.Fatalf("%s: text %d is %q, not %q", name, i, previous, texts[i])
			}
		}
	}
	if order := plainTexts(samples()["in order"]); len(Prefixes(nil, order)) > len(order)/4 {
		t.Errorf("texts that share prefixes take %d bytes of %d", len(Prefixes(nil, order)), len(order))
	}
}

func TestSplitReadsBack(t *testing.T) {
	random := rand.New(rand.NewSource(5))
	for _, n := range []int{0, 1, 7, 1000} {
		long, short := make([]int64, n), make([]int32, n)
		for i := range n {
			long[i], short[i] = int64(random.Uint64()), int32(random.Uint32())
		}
		wide, narrow := Split([]byte{7}, long), Split([]byte{7}, short)
		if len(wide) != 1+8*n || len(narrow) != 1+4*n || wide[0] != 7 || narrow[0] != 7 {
			t.Fatalf("%d values take %d and %d bytes", n, len(wide), len(narrow))
		}
		for i := range n {
			var a, b [8]byte
			for k := range 8 {
				a[k] = wide[1+k*n+i]
			}
			for k := range 4 {
				b[k] = narrow[1+k*n+i]
			}
			if int64(binary.LittleEndian.Uint64(a[:])) != long[i] || int32(binary.LittleEndian.Uint32(b[:])) != short[i] {
				t.Fatalf("value %d of %d is another", i, n)
			}
		}
	}
}
