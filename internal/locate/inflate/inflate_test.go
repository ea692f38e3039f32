package inflate

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"
)

// texts are contents of many kinds: what repeats near and far, what does not, long runs, and nothing.
func texts(random *rand.Rand) map[string][]byte {
	noise := make([]byte, 300_000)
	for i := range noise {
		noise[i] = byte(random.Uint32())
	}
	var lines strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&lines, "%d,OS-%04d,Lantern Bank,2031-05-03T10:%02d:00Z,%.2f\n", i, random.IntN(4000), i%60, float64(random.IntN(900))/100)
	}
	far := append(bytes.Clone(noise[:windowBytes]), noise[:windowBytes]...)
	return map[string][]byte{"nothing": nil, "a byte": {'a'}, "noise": noise, "lines": []byte(lines.String()), "far": far,
		"runs": bytes.Repeat([]byte("ab"), 200_000), "zeros": make([]byte, 500_000), "letters": []byte(strings.Repeat("aaabbbccd", 9000))}
}

func packed(t testing.TB, level int, parts ...[]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	for i, part := range parts {
		w, err := gzip.NewWriterLevel(&b, level)
		if err != nil {
			t.Fatal(err)
		}
		if i%2 == 1 {
			w.Name, w.Comment, w.Extra = "tides.csv", "of the day", []byte("more")
		}
		if _, err := w.Write(part); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	return b.Bytes()
}

func unpacked(r io.Reader) ([]byte, error) {
	d, err := NewReader(r)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(d)
}

// TestWhatWasPackedComesBack unpacks contents of all kinds, at all levels, in one member and several, however the input comes.
func TestWhatWasPackedComesBack(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 8))
	all := texts(random)
	for level := gzip.HuffmanOnly; level <= gzip.BestCompression; level++ {
		for what, text := range all {
			for parts, want := range map[string][]byte{"one": text, "three": bytes.Repeat(text, 3)} {
				stream := packed(t, level, text)
				if parts == "three" {
					stream = packed(t, level, text, text, text)
				}
				for how, r := range map[string]io.Reader{"at once": bytes.NewReader(stream), "by halves": iotest.HalfReader(bytes.NewReader(stream)),
					"with the end": iotest.DataErrReader(bytes.NewReader(stream))} {
					if got, err := unpacked(r); err != nil || !bytes.Equal(got, want) {
						t.Fatalf("%s, level %d, %s member, %s: %d bytes, %v, want %d", what, level, parts, how, len(got), err, len(want))
					}
				}
			}
		}
	}
	short := packed(t, 6, []byte("calm"), all["letters"][:500])
	if got, err := unpacked(iotest.OneByteReader(bytes.NewReader(short))); err != nil || len(got) != 504 {
		t.Errorf("byte by byte: %d bytes, %v", len(got), err)
	}
}

// TestDamageIsSeen cuts a stream anywhere, and changes bytes of it: what comes is the beginning of the content, and then an error.
func TestDamageIsSeen(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 8))
	text := texts(random)["lines"][:9000]
	stream := packed(t, 6, text)
	for cut := range len(stream) {
		got, err := unpacked(bytes.NewReader(stream[:cut]))
		if !errors.Is(err, io.ErrUnexpectedEOF) || !bytes.HasPrefix(text, got) {
			t.Fatalf("cut after %d of %d bytes: %d bytes, %v", cut, len(stream), len(got), err)
		}
	}
	for range 3000 {
		changed := bytes.Clone(stream)
		at := 10 + random.IntN(len(stream)-10)
		changed[at] ^= 1 << random.IntN(8)
		if got, err := unpacked(bytes.NewReader(changed)); err == nil {
			t.Fatalf("with byte %d changed: %d bytes and no error", at, len(got))
		}
	}
	if got, err := unpacked(bytes.NewReader(append(bytes.Clone(stream), "more"...))); err == nil {
		t.Errorf("with something behind it: %d bytes and no error", len(got))
	}
	gone := errors.New("the disk is gone")
	if _, err := unpacked(io.MultiReader(bytes.NewReader(stream[:len(stream)/2]), iotest.ErrReader(gone))); !errors.Is(err, gone) {
		t.Errorf("of a reader that fails: %v", err)
	}
}

// agree holds what is unpacked against what the standard library makes of it.
func agree(t *testing.T, stream []byte) {
	t.Helper()
	got, err := unpacked(bytes.NewReader(stream))
	var want []byte
	r, wantErr := gzip.NewReader(bytes.NewReader(stream))
	if wantErr == nil {
		want, wantErr = io.ReadAll(r)
	}
	if (err == nil) != (wantErr == nil) {
		t.Fatalf("%x: %v, want %v", stream, err, wantErr)
	}
	if err == nil && !bytes.Equal(got, want) {
		t.Fatalf("%x: %q, want %q", stream, got, want)
	}
}

// FuzzBlocks holds any blocks against the standard library, in a member whose checksum is made to fit.
func FuzzBlocks(f *testing.F) {
	random := rand.New(rand.NewPCG(5, 9))
	for _, text := range texts(random) {
		for _, level := range []int{flate.HuffmanOnly, 0, 1, 9} {
			var b bytes.Buffer
			w, err := flate.NewWriter(&b, level)
			if err != nil {
				f.Fatal(err)
			}
			_, _ = w.Write(text[:min(len(text), 900)])
			_ = w.Close()
			f.Add(b.Bytes())
		}
	}
	f.Fuzz(func(t *testing.T, blocks []byte) {
		rest := bytes.NewReader(blocks)
		want, err := io.ReadAll(flate.NewReader(rest))
		blocks = blocks[:len(blocks)-rest.Len()]
		stream := append([]byte{0x1f, 0x8b, deflated, 0, 0, 0, 0, 0, 0, 0}, blocks...)
		stream = binary.LittleEndian.AppendUint32(stream, crc32.ChecksumIEEE(want))
		stream = binary.LittleEndian.AppendUint32(stream, uint32(len(want)))
		got, gotErr := unpacked(bytes.NewReader(stream))
		if err == nil && (gotErr != nil || !bytes.Equal(got, want)) {
			t.Fatalf("%x: %d bytes, %v, want %d", blocks, len(got), gotErr, len(want))
		}
		if err != nil && gotErr == nil {
			t.Fatalf("%x: no error, want %v", blocks, err)
		}
	})
}

// FuzzUnpack holds any stream against the standard library.
func FuzzUnpack(f *testing.F) {
	random := rand.New(rand.NewPCG(5, 8))
	for _, text := range texts(random) {
		text = text[:min(len(text), 700)]
		for _, level := range []int{gzip.HuffmanOnly, 0, 1, 9} {
			f.Add(packed(f, level, text))
		}
	}
	f.Add(packed(f, 1, []byte("a"), nil, []byte("b")))
	f.Fuzz(func(t *testing.T, stream []byte) { agree(t, stream) })
}

// BenchmarkUnpack unpacks lines.
func BenchmarkUnpack(b *testing.B) {
	text := texts(rand.New(rand.NewPCG(1, 8)))["lines"]
	for _, level := range []int{1, 6} {
		stream := packed(b, level, text)
		b.Run(fmt.Sprintf("level %d", level), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				d, err := NewReader(bytes.NewReader(stream))
				if err != nil {
					b.Fatal(err)
				}
				if _, err := io.Copy(io.Discard, d); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
