package layout

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"testing"
)

// slot is a file in memory that refuses to grow beyond a size.
type slot struct {
	bytes.Buffer
	room   int
	closed int
}

var errFull = errors.New("no room is left")

func (s *slot) Write(p []byte) (int, error) {
	if s.Len()+len(p) > s.room {
		return 0, errFull
	}
	return s.Buffer.Write(p)
}

func (s *slot) Close() error {
	s.closed++
	return nil
}

func TestBehindKeepsTheOrderOfBytes(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, size := range []int{0, 1, behindBytes - 1, behindBytes, behindBytes + 1, 5*behindBytes + 77} {
		want := make([]byte, size)
		for i := range want {
			want[i] = byte(random.Uint32())
		}
		file := &slot{room: size}
		w := Behind(file)
		for at := 0; at < size; {
			n := min(1+random.IntN(behindBytes*2), size-at)
			piece := bytes.Clone(want[at : at+n])
			if got, err := w.Write(piece); got != n || err != nil {
				t.Fatalf("writing %d bytes at %d: %d, %v", n, at, got, err)
			}
			clear(piece) // what was handed over is the caller's again
			at += n
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(file.Bytes(), want) || file.closed != 1 {
			t.Errorf("%d bytes: %d came through, in order: %v; closed %d times", size, file.Len(), bytes.Equal(file.Bytes(), want), file.closed)
		}
	}
}

func TestBehindTellsOfAFailedWrite(t *testing.T) {
	file := &slot{room: behindBytes}
	w := Behind(file)
	piece := make([]byte, behindBytes)
	var err error
	for n := 0; err == nil && n < 10*mostBehind; n++ {
		_, err = w.Write(piece)
	}
	if !errors.Is(err, errFull) {
		t.Errorf("writing on: %v", err)
	}
	if err := w.Close(); !errors.Is(err, errFull) || file.closed != 1 {
		t.Errorf("closing: %v, closed %d times", err, file.closed)
	}
	small := &slot{room: 10}
	w = Behind(small)
	if _, err := w.Write(make([]byte, 11)); err != nil {
		t.Errorf("what is only gathered fails: %v", err)
	}
	if err := w.Close(); !errors.Is(err, errFull) || small.closed != 1 {
		t.Errorf("closing: %v, closed %d times", err, small.closed)
	}
}

// TestManyFilesBehind writes more pieces of more files than may wait, each file from a goroutine of its own.
func TestManyFilesBehind(t *testing.T) {
	const files = 3 * mostBehind
	outcomes := make(chan error, files)
	for n := range files {
		go func() {
			file := &slot{room: 9 * behindBytes}
			w := Behind(file)
			want := bytes.Repeat([]byte{byte(n)}, 4*behindBytes+n)
			for range 2 {
				if _, err := w.Write(want); err != nil {
					outcomes <- err
					return
				}
			}
			err := w.Close()
			if err == nil && !bytes.Equal(file.Bytes(), append(want, want...)) {
				err = errors.New("a file holds other bytes than were written")
			}
			outcomes <- err
		}()
	}
	for range files {
		if err := <-outcomes; err != nil {
			t.Error(err)
		}
	}
}
