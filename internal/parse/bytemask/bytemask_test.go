package bytemask

import (
	"bytes"
	"math/rand/v2"
	"testing"
)

// naive is what Of must give.
func naive(data []byte, a, b, c byte) []uint64 {
	out := make([]uint64, (len(data)+Word-1)/Word)
	for i, x := range data {
		if x == a || x == b || x == c {
			out[i/Word] |= 1 << (i % Word)
		}
	}
	return out
}

func equal(a, b []uint64) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

func TestOfAgreesWithOneByteAtATime(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for size := range 400 {
		data := make([]byte, size)
		for i := range data {
			data[i] = "ab,\n\r\"\x00\x80\xff;"[random.IntN(10)]
		}
		dst := make([]uint64, 8)
		if got, want := Of(dst, data, ',', '\n', '\r'), naive(data, ',', '\n', '\r'); !equal(got, want) {
			t.Fatalf("%q: mask %x, want %x", data, got, want)
		}
		whole := data[:size/Word*Word]
		words := make([]uint64, len(whole)/Word)
		fillWords(words, whole, 0, 0x80, 0xff)
		if want := naive(whole, 0, 0x80, 0xff); !equal(words, want) {
			t.Fatalf("%q: eight at a time gives %x, want %x", whole, words, want)
		}
	}
}

// TestFieldsAgreesWithThreeMasks makes the three masks at once, and one after the other.
func TestFieldsAgreesWithThreeMasks(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 2))
	for size := range 600 {
		data := make([]byte, size)
		for i := range data {
			data[i] = "ab,\n\r\"\x00 ;"[random.IntN(9)]
		}
		odd := size > 0 && random.IntN(2) == 0
		if odd {
			data[random.IntN(size)] = byte(0x80 + random.IntN(0x80))
		}
		room := random.IntN(12)
		ends, feeds, quotes := make([]uint64, room), make([]uint64, room), make([]uint64, room)
		words, ascii := Fields(ends, feeds, quotes, data, ',', '"')
		seen := data[:min(size, room*Word)]
		for name, pair := range map[string][2][]uint64{
			"ends":   {ends[:words], naive(seen, ',', '\n', '\n')},
			"feeds":  {feeds[:words], naive(seen, '\n', '\n', '\n')},
			"quotes": {quotes[:words], naive(seen, '"', '"', '"')},
		} {
			if !equal(pair[0], pair[1]) {
				t.Fatalf("%s of %q: %x, want %x", name, seen, pair[0], pair[1])
			}
		}
		if want := bytes.IndexFunc(seen, func(r rune) bool { return r >= 0x80 }) < 0; ascii != want {
			t.Fatalf("%q is ASCII: %v", seen, ascii)
		}
	}
}

func TestOfTakesNoMoreThanItHasRoomFor(t *testing.T) {
	data := bytes.Repeat([]byte{','}, 300)
	if got := Of(make([]uint64, 2), data, ',', ',', ','); len(got) != 2 || got[0] != 1<<64-1 || got[1] != 1<<64-1 {
		t.Errorf("two words of 300 bytes are %x", got)
	}
	if got := Of(nil, data, ',', ',', ','); len(got) != 0 {
		t.Errorf("no words of 300 bytes are %x", got)
	}
}

func FuzzOf(f *testing.F) {
	f.Add([]byte("a,b\nc\r"), byte(','), byte('\n'), byte('\r'))
	f.Add(bytes.Repeat([]byte("station;\x00"), 20), byte(';'), byte(0), byte(0xff))
	f.Fuzz(func(t *testing.T, data []byte, a, b, c byte) {
		if got, want := Of(make([]uint64, len(data)/Word+1), data, a, b, c), naive(data, a, b, c); !equal(got, want) {
			t.Errorf("mask %x, want %x", got, want)
		}
	})
}

func BenchmarkOf(b *testing.B) {
	data := bytes.Repeat([]byte("100000,OS-0213,Lantern Bank,tide,2026-04-08\n"), 1<<20/44)
	dst := make([]uint64, len(data)/Word+1)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		Of(dst, data, ',', '\n', '\n')
	}
}
