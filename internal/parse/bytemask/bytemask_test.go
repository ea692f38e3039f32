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
