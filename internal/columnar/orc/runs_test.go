package orc

import (
	"bytes"
	"io"
	"math/rand"
	"slices"
	"testing"
)

// stored makes an input of the bytes of a stream that is not compressed.
func stored(body []byte) *input {
	return &input{name: "test", packed: io.NewSectionReader(bytes.NewReader(body), 0, int64(len(body))), unpack: &unpacker{}}
}

func readLongs(in *integerInput, n int) (out []int64, err error) {
	err = guarded(func() error {
		for range n {
			out = append(out, in.next())
		}
		return nil
	})
	return out, err
}

// TestRunsOfTheSpecification reads the examples that the specification gives.
func TestRunsOfTheSpecification(t *testing.T) {
	down := make([]int64, 100)
	for i := range down {
		down[i] = int64(100 - i)
	}
	tests := []struct {
		name   string
		second bool
		body   []byte
		want   []int64
	}{
		{"version 1, run", false, []byte{0x61, 0x00, 0x07}, slices.Repeat([]int64{7}, 100)},
		{"version 1, falling run", false, []byte{0x61, 0xff, 0x64}, down},
		{"version 1, literals", false, []byte{0xfb, 0x02, 0x03, 0x04, 0x07, 0x0b}, []int64{2, 3, 4, 7, 11}},
		{"short repeat", true, []byte{0x0a, 0x27, 0x10}, slices.Repeat([]int64{10000}, 5)},
		{"direct", true, []byte{0x5e, 0x03, 0x5c, 0xa1, 0xab, 0x1e, 0xde, 0xad, 0xbe, 0xef}, []int64{23713, 43806, 57005, 48879}},
		{"patched base", true, []byte{0x8e, 0x13, 0x2b, 0x21, 0x07, 0xd0, 0x1e, 0x00, 0x14, 0x70, 0x28, 0x32, 0x3c, 0x46, 0x50, 0x5a,
			0x64, 0x6e, 0x78, 0x82, 0x8c, 0x96, 0xa0, 0xaa, 0xb4, 0xbe, 0xfc, 0xe8},
			[]int64{2030, 2000, 2020, 1000000, 2040, 2050, 2060, 2070, 2080, 2090, 2100, 2110, 2120, 2130, 2140, 2150, 2160, 2170, 2180,
				2190}},
		{"delta", true, []byte{0xc6, 0x09, 0x02, 0x02, 0x22, 0x42, 0x42, 0x46}, []int64{2, 3, 5, 7, 11, 13, 17, 19, 23, 29}},
	}
	for _, test := range tests {
		in := &integerInput{input: stored(test.body), second: test.second}
		got, err := readLongs(in, len(test.want))
		if err != nil || !slices.Equal(got, test.want) {
			t.Errorf("%s: %v, %v, want %v", test.name, got, err, test.want)
		}
		if _, err := readLongs(in, 1); err == nil {
			t.Errorf("%s: there is more", test.name)
		}
	}
	var got []byte
	in := byteInput{input: stored([]byte{0x61, 0x00, 0xfe, 0x44, 0x45})}
	for range 102 {
		got = append(got, in.next())
	}
	if want := append(make([]byte, 100), 0x44, 0x45); !bytes.Equal(got, want) {
		t.Errorf("bytes: % x", got)
	}
}

// shapes make numbers that call for the different sub-encodings.
var shapes = []func(r *rand.Rand, at int) int64{
	func(r *rand.Rand, at int) int64 { return int64(at) },
	func(r *rand.Rand, at int) int64 { return -7 * int64(at/9) },
	func(r *rand.Rand, at int) int64 { return int64(at/3) + r.Int63n(2) },
	func(r *rand.Rand, at int) int64 { return int64(at*at) + r.Int63n(40) },
	func(r *rand.Rand, at int) int64 { return r.Int63n(1<<r.Intn(62)+1) - r.Int63n(1<<r.Intn(62)+1) },
	func(r *rand.Rand, at int) int64 { return int64(r.Uint64()) },
	func(r *rand.Rand, at int) int64 { return int64(r.Intn(2)) },
	func(r *rand.Rand, at int) int64 { return []int64{-1 << 63, 1<<63 - 1, 0}[r.Intn(3)] },
	func(r *rand.Rand, at int) int64 { return int64(r.Intn(5)) / 4 * 1e15 },
}

// TestIntegersReadBackEqual writes numbers of every shape, with row groups between them, and reads them from the first and from
// where each group begins.
func TestIntegersReadBackEqual(t *testing.T) {
	for seed := range int64(200) {
		r := rand.New(rand.NewSource(seed))
		shape, signed := shapes[int(seed)%len(shapes)], seed%2 == 0
		var list []int64
		var places, starts []int
		s := integers{signed: signed}
		for at := range r.Intn(3000) {
			if r.Intn(400) == 0 {
				places, starts = append(places, s.flush()), append(starts, at)
			}
			v := shape(r, at)
			if r.Intn(50) == 0 && len(list) > 0 {
				v = list[len(list)-1]
			}
			if !signed && v < 0 {
				v = -(v + 1)
			}
			list = append(list, v)
			s.add(v)
		}
		s.flush()
		for i, at := range append([]int{0}, starts...) {
			offset := 0
			if i > 0 {
				offset = places[i-1]
			}
			got, err := readLongs(&integerInput{input: stored(s.body[offset:]), signed: signed, second: true}, len(list)-at)
			if err != nil || !slices.Equal(got, list[at:]) {
				t.Fatalf("seed %d, from %d on: %v", seed, at, err)
			}
		}
	}
}

func TestBitsReadBackEqual(t *testing.T) {
	for seed := range int64(50) {
		r := rand.New(rand.NewSource(seed))
		var list []bool
		var b bitStream
		for at := range r.Intn(20000) {
			if r.Intn(3000) == 0 {
				b.mark()
			}
			list = append(list, at/500%2 == 0 || r.Intn(3) == 0)
			b.add(list[at])
		}
		marks := slices.Clone(b.marks)
		s := b.finish(streamPresent)
		for i, p := range s.places {
			in := bitInput{byteInput: byteInput{input: stored(s.body[p.offset:])}}
			for range p.inside[1] {
				in.next()
			}
			for at := marks[i]; at < len(list); at++ {
				if in.next() != list[at] {
					t.Fatalf("seed %d: bit %d, from %d on", seed, at, marks[i])
				}
			}
		}
	}
}

func TestNanosecondsOfTheSpecification(t *testing.T) {
	for v, want := range map[int64]int64{1000: 0x0a, 100000: 0x0c, 0: 0, 1: 8, 999_999_999: 999_999_999 << 3, 500_000_000: 5<<3 | 7} {
		if got := nanoseconds(v); got != want {
			t.Errorf("%d: %#x, want %#x", v, got, want)
		}
	}
}

func FuzzRuns(f *testing.F) {
	f.Add([]byte{0x8e, 0x13, 0x2b, 0x21, 0x07, 0xd0, 0x1e, 0x00, 0x14, 0x70, 0x28, 0x32, 0x3c, 0x46, 0x50, 0x5a, 0x64, 0x6e, 0x78, 0x82,
		0x8c, 0x96, 0xa0, 0xaa, 0xb4, 0xbe, 0xfc, 0xe8}, true)
	f.Add([]byte{0xc6, 0x09, 0x02, 0x02, 0x22, 0x42, 0x42, 0x46}, true)
	f.Add([]byte{0x5e, 0x03, 0x5c, 0xa1, 0xab, 0x1e, 0xde, 0xad, 0xbe, 0xef}, true)
	f.Add([]byte{0xfb, 0x02, 0x03, 0x04, 0x07, 0x0b}, false)
	f.Fuzz(func(t *testing.T, body []byte, second bool) {
		for _, signed := range []bool{false, true} {
			got, err := readLongs(&integerInput{input: stored(body), signed: signed, second: second}, 5000)
			if err != nil && len(got) > 600*len(body) {
				t.Errorf("%d values of %d bytes", len(got), len(body))
			}
		}
	})
}
