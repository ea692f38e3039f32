package encode

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand"
	"reflect"
	"slices"
	"testing"
)

// readHybrid decodes n values of the RLE/bit-packing hybrid, by the letter of the specification.
func readHybrid(t testing.TB, b []byte, width, n int) []uint32 {
	t.Helper()
	var out []uint32
	for len(out) < n {
		header, size := binary.Uvarint(b)
		if size <= 0 {
			t.Fatalf("the header after %d values cannot be read", len(out))
		}
		b = b[size:]
		if header&1 == 0 {
			bytes := (width + 7) / 8
			var v uint32
			for i := range bytes {
				v |= uint32(b[i]) << (8 * i)
			}
			b = b[bytes:]
			out = append(out, slices.Repeat([]uint32{v}, int(header>>1))...)
			continue
		}
		count := int(header>>1) * 8
		for i := range count {
			var v uint32
			for bit := range width {
				at := i*width + bit
				v |= uint32(b[at/8]>>(at%8)&1) << bit
			}
			out = append(out, v)
		}
		b = b[int(header>>1)*width:]
	}
	if len(b) > 0 {
		t.Fatalf("%d bytes are left", len(b))
	}
	return out[:n]
}

func TestHybridReadsBack(t *testing.T) {
	random := rand.New(rand.NewSource(1))
	for width := 1; width <= 32; width++ {
		for _, n := range []int{0, 1, 7, 8, 9, 64, 1000} {
			for _, runs := range []int{1, 3, 40} {
				values := make([]uint32, n)
				for i := range values {
					if i > 0 && random.Intn(runs) > 0 {
						values[i] = values[i-1]
					} else {
						values[i] = random.Uint32() >> (32 - width)
					}
				}
				got := readHybrid(t, Hybrid(nil, values, width), width, n)
				if n > 0 && !slices.Equal(got, values) {
					t.Fatalf("width %d, %d values, runs of %d: %v, want %v", width, n, runs, got, values)
				}
			}
		}
	}
	if got := readHybrid(t, Run(nil, 5, 1000, 3), 3, 1000); got[0] != 5 || got[999] != 5 {
		t.Errorf("%v", got[:3])
	}
	if long := Hybrid(nil, slices.Repeat([]uint32{3}, 100_000), 2); len(long) > 8 {
		t.Errorf("a run takes %d bytes", len(long))
	}
}

// readDelta decodes values of DELTA_BINARY_PACKED that nothing follows.
func readDelta(t testing.TB, b []byte) []int64 {
	t.Helper()
	out, rest := beginDelta(t, b)
	if len(rest) > 0 {
		t.Fatalf("%d bytes are left", len(rest))
	}
	return out
}

// beginDelta decodes DELTA_BINARY_PACKED, by the letter of the specification, and returns what follows.
func beginDelta(t testing.TB, b []byte) (out []int64, rest []byte) {
	t.Helper()
	next := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			t.Fatal("a number cannot be read")
		}
		b = b[n:]
		return v
	}
	zigzag := func() int64 {
		v, n := binary.Varint(b)
		if n <= 0 {
			t.Fatal("a number cannot be read")
		}
		b = b[n:]
		return v
	}
	block, parts, count := int(next()), int(next()), int(next())
	value := zigzag()
	if count > 0 {
		out = append(out, value)
	}
	for len(out) < count {
		smallest := zigzag()
		widths := b[:parts]
		b = b[parts:]
		for m := 0; m < parts && len(out) < count; m++ {
			width := int(widths[m])
			for i := range block / parts {
				var d uint64
				for bit := range width {
					at := i*width + bit
					d |= uint64(b[at/8]>>(at%8)&1) << bit
				}
				if len(out) < count {
					value += smallest + int64(d)
					out = append(out, value)
				}
			}
			b = b[block/parts*width/8:]
		}
	}
	return out, b
}

func TestDeltaReadsBack(t *testing.T) {
	random := rand.New(rand.NewSource(2))
	kinds := map[string]func(i int) int64{
		"sequence":  func(i int) int64 { return int64(1000 + i) },
		"falling":   func(i int) int64 { return int64(-7 * i) },
		"constant":  func(int) int64 { return 42 },
		"noise":     func(int) int64 { return random.Int63n(1 << 40) },
		"anything":  func(int) int64 { return int64(random.Uint64()) },
		"extremes":  func(i int) int64 { return []int64{math.MinInt64, math.MaxInt64, 0}[i%3] },
		"instants":  func(i int) int64 { return 1935363723000000 + int64(i)*60e6 + random.Int63n(1e6) },
		"two steps": func(i int) int64 { return int64(i) << (uint(i) % 60) },
	}
	for name, value := range kinds {
		for _, n := range []int{0, 1, 2, 32, 33, 128, 129, 130, 257, 1000} {
			values := make([]int64, n)
			narrow := make([]int32, n)
			for i := range values {
				values[i] = value(i)
				narrow[i] = int32(values[i])
			}
			if got := readDelta(t, Delta(nil, values)); n > 0 && !slices.Equal(got, values) {
				t.Fatalf("%s, %d values: %v, want %v", name, n, got, values)
			}
			got := readDelta(t, Delta(nil, narrow))
			for i, v := range got {
				if int32(v) != narrow[i] {
					t.Fatalf("%s, %d narrow values: number %d is %d, want %d", name, n, i, int32(v), narrow[i])
				}
			}
		}
	}
	if size := len(Delta(nil, make([]int64, 100_000))); size > 10_000 {
		t.Errorf("a constant column takes %d bytes", size)
	}
}

func FuzzDelta(f *testing.F) {
	f.Add([]byte{1, 2, 3, 4, 5, 6, 7, 8, 255, 255, 255, 255, 255, 255, 255, 127})
	f.Fuzz(func(t *testing.T, b []byte) {
		var values []int64
		for len(b) >= 8 {
			values = append(values, int64(binary.LittleEndian.Uint64(b)))
			b = b[8:]
		}
		if got := readDelta(t, Delta(nil, values)); !slices.Equal(got, values) {
			t.Fatalf("%v, want %v", got, values)
		}
	})
}

func TestFixedDictionary(t *testing.T) {
	random := rand.New(rand.NewSource(3))
	for _, different := range []int{1, 2, 1000, 50_000} {
		var d Fixed[int64]
		for range 2 {
			var values []int64
			for range 60_000 {
				values = append(values, int64(math.Float64bits(float64(random.Intn(different))/8)))
			}
			ids := d.Add(nil, values)
			for i, id := range ids {
				if d.Values[id] != values[i] {
					t.Fatalf("value %d has the number %d, which is %d", values[i], id, d.Values[id])
				}
			}
			seen := map[int64]bool{}
			for _, v := range d.Values {
				if seen[v] {
					t.Fatalf("%d has two numbers", v)
				}
				seen[v] = true
			}
			d.Reset()
		}
	}
}

func TestTextDictionary(t *testing.T) {
	var d Text
	for round := range 2 {
		numbers := map[string]uint32{}
		for i := range 20_000 {
			for _, text := range []string{fmt.Sprint(i % 5000), fmt.Sprintf("a longer text with the number %d in it", i%300), "",
				string(make([]byte, i%20))} {
				id := d.ID([]byte(text))
				if known, ok := numbers[text]; ok && known != id {
					t.Fatalf("%q has the numbers %d and %d", text, known, id)
				}
				numbers[text] = id
				if string(d.Value(id)) != text {
					t.Fatalf("number %d is %q, not %q", id, d.Value(id), text)
				}
			}
		}
		if d.Len() != len(numbers) {
			t.Errorf("round %d: %d different texts, want %d", round, d.Len(), len(numbers))
		}
		d.Reset()
	}
}

func TestPlainAndBits(t *testing.T) {
	if got := Plain(nil, []int32{1, -1}); !reflect.DeepEqual(got, []byte{1, 0, 0, 0, 255, 255, 255, 255}) {
		t.Errorf("%v", got)
	}
	if got := Plain(nil, []int64{258}); !reflect.DeepEqual(got, []byte{2, 1, 0, 0, 0, 0, 0, 0}) {
		t.Errorf("%v", got)
	}
	if got := PlainText([]byte{9}, []byte("ab")); !reflect.DeepEqual(got, []byte{9, 2, 0, 0, 0, 'a', 'b'}) {
		t.Errorf("%v", got)
	}
	if got := bitmapOf([]bool{true, false, true, false, false, false, false, true, true}).Bytes; !reflect.DeepEqual(got,
		[]byte{0x85, 1}) {
		t.Errorf("%v", got)
	}
	for most, want := range map[int]int{0: 0, 1: 1, 2: 2, 255: 8, 256: 9} {
		if got := Width(most); got != want {
			t.Errorf("width of %d: %d", most, got)
		}
	}
}

func BenchmarkHybrid(b *testing.B) {
	values := make([]uint32, 20_000)
	for i := range values {
		values[i] = uint32(i*7919) % 6000
	}
	dst := make([]byte, 0, 1<<17)
	b.SetBytes(int64(4 * len(values)))
	for b.Loop() {
		dst = Hybrid(dst[:0], values, 13)
	}
}

func BenchmarkDelta(b *testing.B) {
	values := make([]int64, 20_000)
	for i := range values {
		values[i] = int64(i)*1000 + int64(i*7919%500)
	}
	dst := make([]byte, 0, 1<<18)
	b.SetBytes(int64(8 * len(values)))
	for b.Loop() {
		dst = Delta(dst[:0], values)
	}
}

func BenchmarkDictionaries(b *testing.B) {
	values := make([]int64, 20_000)
	for i := range values {
		values[i] = int64(math.Float64bits(float64(i*7919%12000) / 1000))
	}
	var d Fixed[int64]
	ids := make([]uint32, 0, len(values))
	b.SetBytes(int64(8 * len(values)))
	for b.Loop() {
		d.Reset()
		ids = d.Add(ids[:0], values)
	}
}

func bitmapOf(values []bool) *Bitmap {
	b := &Bitmap{}
	for _, v := range values {
		var one [1]byte
		if v {
			one[0] = 1
		}
		b.Append(one[:], 0, 1)
	}
	return b
}

// TestBitmaps puts bitmaps together from pieces at all offsets, and takes values by them.
func TestBitmaps(t *testing.T) {
	random := rand.New(rand.NewSource(5))
	for round := range 3000 {
		var b Bitmap
		var want []bool
		var values, taken []int
		for range random.Intn(6) {
			n, offset := random.Intn(200), random.Intn(20)
			if random.Intn(3) == 0 {
				b.AppendOnes(n)
				for range n {
					want = append(want, true)
				}
				continue
			}
			piece := make([]bool, offset+n)
			for i := range piece {
				piece[i] = random.Intn(1+round%7) == 0
			}
			from := bitmapOf(piece).Bytes
			list := make([]int, n)
			for i := range list {
				list[i] = len(want) + i
				if piece[offset+i] {
					taken = append(taken, list[i])
				}
			}
			values = Take(values, list, from, offset, n)
			b.Append(from, offset, n)
			want = append(want, piece[offset:]...)
		}
		ones := 0
		for i, v := range want {
			if v {
				ones++
			}
			if b.Bytes[i/8]>>(i%8)&1 != 0 != v {
				t.Fatalf("round %d: bit %d of %d is %v", round, i, len(want), !v)
			}
		}
		if b.N != len(want) || b.Ones != ones || len(b.Bytes) != (len(want)+7)/8 {
			t.Fatalf("round %d: %d bits, %d of them set, in %d bytes; want %d and %d", round, b.N, b.Ones, len(b.Bytes), len(want), ones)
		}
		if len(values) != len(taken) || len(taken) > 0 && !reflect.DeepEqual(values, taken) {
			t.Fatalf("round %d: took %v, want %v", round, values, taken)
		}
		ids := make([]uint32, len(want))
		for i, v := range want {
			if v {
				ids[i] = 1
			}
		}
		if got := readHybrid(t, HybridBits(nil, &b), 1, len(ids)); len(ids) > 0 && !reflect.DeepEqual(got, ids) {
			t.Fatalf("round %d: %v is encoded as %v", round, ids, got)
		}
	}
}
