package decode_test

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand"
	"slices"
	"testing"

	"trevak/internal/columnar/decode"
	"trevak/internal/columnar/encode"
)

// TestEncodedNumbersComeBack encodes random numbers of every width and decodes them.
func TestEncodedNumbersComeBack(t *testing.T) {
	random := rand.New(rand.NewSource(1))
	for width := range 33 {
		for _, n := range []int{0, 1, 7, 8, 9, 63, 64, 65, 1000} {
			values := make([]uint32, n)
			for i := range values {
				if values[i] = uint32(random.Uint64() & (1<<width - 1)); random.Intn(3) > 0 && i > 0 {
					values[i] = values[i-1]
				}
			}
			data := encode.Hybrid(nil, values, width)
			got, err := decode.Hybrid([]uint32(nil), data, width, n)
			if err != nil || !slices.Equal(got, values) && n > 0 {
				t.Fatalf("%d numbers of %d bits: %v, %v, want %v", n, width, got, err, values)
			}
			got, err = decode.Indices(nil, append([]byte{byte(width)}, data...), n)
			if err != nil || !slices.Equal(got, values) && n > 0 {
				t.Fatalf("%d places of %d bits: %v", n, width, err)
			}
		}
	}
}

func TestDeltasComeBack(t *testing.T) {
	random := rand.New(rand.NewSource(2))
	for _, spread := range []int{0, 1, 8, 20, 31, 40, 62} {
		for _, n := range []int{0, 1, 2, 31, 32, 33, 127, 128, 129, 1000} {
			values := make([]int64, n)
			for i := range values {
				values[i] = random.Int63n(1<<spread) - 1<<spread/2
			}
			got, rest, err := decode.Delta(nil, encode.Delta(nil, values), n)
			if err != nil || len(rest) > 0 || !slices.Equal(got, values) && n > 0 {
				t.Fatalf("%d numbers within 2^%d: %v, %d bytes left", n, spread, err, len(rest))
			}
		}
	}
	narrow := []int32{1 << 30, -1 << 31, 1<<31 - 1, 0, -5}
	got, _, err := decode.Delta(nil, encode.Delta(nil, narrow), len(narrow))
	for i := range got {
		if err != nil || int32(got[i]) != narrow[i] {
			t.Errorf("%v, %v, want %v", got, err, narrow)
		}
	}
}

func TestTextsComeBack(t *testing.T) {
	random := rand.New(rand.NewSource(3))
	var plain []byte
	var want []string
	for i := range 500 {
		text := fmt.Sprint("Cairn Bay "[:random.Intn(11)], random.Intn(1000), i%7)
		if i%50 == 0 {
			text = ""
		}
		want = append(want, text)
		plain = encode.PlainText(plain, []byte(text))
	}
	for name, read := range map[string]func(*decode.Texts) error{
		"plain": func(dst *decode.Texts) error { return decode.PlainTexts(dst, plain, len(want)) },
		"lengths": func(dst *decode.Texts) error {
			return decode.DeltaLengthTexts(dst, encode.Lengths(nil, plain), len(want))
		},
		"shared": func(dst *decode.Texts) error { return decode.DeltaTexts(dst, encode.Prefixes(nil, plain), len(want)) },
	} {
		var texts, copied decode.Texts
		texts.Add([]byte("before"))
		if err := read(&texts); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		copied.AddAll(&texts, 1, texts.Len())
		for i, text := range want {
			if string(texts.At(i+1)) != text || string(copied.At(i)) != text {
				t.Fatalf("%s: text %d is %q, and %q when it is copied, want %q", name, i, texts.At(i+1), copied.At(i), text)
			}
		}
	}
	var fixed decode.Texts
	if err := decode.FixedTexts(&fixed, []byte("aabbcc"), 3, 2); err != nil || string(fixed.At(2)) != "cc" {
		t.Errorf("%q, %v", fixed.Bytes, err)
	}
}

func TestBooleansAndSplitsComeBack(t *testing.T) {
	random := rand.New(rand.NewSource(4))
	for _, n := range []int{0, 1, 8, 9, 1000, 1001} {
		want := make([]byte, n)
		var bitmap encode.Bitmap
		for i := range want {
			if want[i] = byte(random.Intn(2)); i > 0 && random.Intn(4) > 0 {
				want[i] = want[i-1]
			}
		}
		bitmap.Append(decode.Bits(want), 0, n)
		got, err := decode.Booleans([]byte{7}, bitmap.Bytes, n)
		if err != nil || !slices.Equal(got[1:], want) {
			t.Errorf("%d bits: %v", n, err)
		}
		runs := encode.Runs(nil, &bitmap)
		if got, err = decode.RunBooleans(nil, runs, n); err != nil || !slices.Equal(got, want) && n > 0 {
			t.Errorf("%d booleans in runs: %v", n, err)
		}
	}
	values := []int64{1, -2, 1 << 40, 0}
	joined, err := decode.Joined(encode.Split(nil, values), len(values), 8)
	for i, v := range values {
		if err != nil || int64(binary.LittleEndian.Uint64(joined[i*8:])) != v {
			t.Errorf("value %d: %x, %v", i, joined, err)
		}
	}
}

func TestLevels(t *testing.T) {
	run := encode.Run(nil, 3, 100, 2)
	if !decode.Same(run, 2, 100, 3) || decode.Same(run, 2, 101, 3) || decode.Same(run, 2, 100, 2) || decode.Same(nil, 2, 0, 0) {
		t.Error("a run is not told from others")
	}
	if n := decode.Count([]uint16{2, 1, 2, 65535, 0}, 2); n != 2 {
		t.Errorf("%d", n)
	}
}

// FuzzDecode reads what is no encoding: there are as many values as are asked for, or an error.
func FuzzDecode(f *testing.F) {
	f.Add(encode.Hybrid(nil, []uint32{1, 2, 3, 3, 3, 3, 3, 3, 3, 3, 3}, 2), byte(2), uint16(11))
	f.Add(encode.Delta(nil, []int64{1, 5, -7, 1 << 40}), byte(64), uint16(4))
	f.Add(encode.Lengths(nil, encode.PlainText(nil, []byte("hull"))), byte(0), uint16(1))
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0x0f, 1}, byte(32), uint16(9))
	f.Fuzz(func(t *testing.T, data []byte, width byte, count uint16) {
		n := int(count)
		check := func(what string, got int, err error) {
			if err == nil && got != n || err != nil && !errors.Is(err, decode.ErrDamaged) {
				t.Errorf("%s: %d of %d, %v", what, got, n, err)
			}
		}
		numbers, err := decode.Hybrid([]uint16(nil), data, int(width)%40, n)
		check("numbers", len(numbers), err)
		codes, err := decode.Indices(nil, data, n)
		check("places", len(codes), err)
		flags, err := decode.RunBooleans(nil, data, n)
		check("booleans", len(flags), err)
		if longs, _, err := decode.Delta(nil, data, n); len(longs) > n {
			t.Errorf("%d deltas, %v", len(longs), err)
		}
		for _, read := range []func(*decode.Texts, []byte, int) error{decode.PlainTexts, decode.DeltaLengthTexts, decode.DeltaTexts} {
			var texts decode.Texts
			err := read(&texts, data, n)
			check("texts", texts.Len(), err)
		}
	})
}
