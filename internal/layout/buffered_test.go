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
	room               int
	committed, aborted int
}

var errFull = errors.New("no room is left")

func (s *slot) Write(p []byte) (int, error) {
	if s.Len()+len(p) > s.room {
		return 0, errFull
	}
	return s.Buffer.Write(p)
}

func (s *slot) Commit() error {
	s.committed++
	return nil
}

func (s *slot) Abort() error {
	s.aborted++
	return nil
}

func TestBufferedKeepsTheOrderOfBytes(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, size := range []int{0, 1, pieceBytes - 1, pieceBytes, pieceBytes + 1, 5*pieceBytes + 77} {
		want := make([]byte, size)
		for i := range want {
			want[i] = byte(random.Uint32())
		}
		file := &slot{room: size}
		w := Buffered(file)
		for at := 0; at < size; {
			n := min(1+random.IntN(pieceBytes*2), size-at)
			piece := bytes.Clone(want[at : at+n])
			if got, err := w.Write(piece); got != n || err != nil {
				t.Fatalf("writing %d bytes at %d: %d, %v", n, at, got, err)
			}
			clear(piece) // what was handed over is the caller's again
			at += n
		}
		if err := w.Commit(); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(file.Bytes(), want) || file.committed != 1 {
			t.Errorf("%d bytes: %d came through, in order: %v; committed %d times", size, file.Len(), bytes.Equal(file.Bytes(), want),
				file.committed)
		}
	}
}

func TestBufferedTellsOfAFailedWrite(t *testing.T) {
	file := &slot{room: pieceBytes}
	w := Buffered(file)
	piece := make([]byte, pieceBytes)
	var err error
	for n := 0; err == nil && n < 10*mostPieces; n++ {
		_, err = w.Write(piece)
	}
	if !errors.Is(err, errFull) {
		t.Errorf("writing on: %v", err)
	}
	if err := w.Commit(); !errors.Is(err, errFull) || file.committed != 0 || file.aborted != 1 {
		t.Errorf("committing: %v, %+v", err, file)
	}
	small := &slot{room: 10}
	w = Buffered(small)
	if _, err := w.Write(make([]byte, 11)); err != nil {
		t.Errorf("what is only gathered fails: %v", err)
	}
	if err := w.Commit(); !errors.Is(err, errFull) || small.committed != 0 || small.aborted != 1 {
		t.Errorf("committing: %v, %+v", err, small)
	}
}

// TestManyFilesBuffered writes more pieces of more files than may wait, each file from a goroutine of its own.
func TestManyFilesBuffered(t *testing.T) {
	const files = 3 * mostPieces
	outcomes := make(chan error, files)
	for n := range files {
		go func() {
			file := &slot{room: 9 * pieceBytes}
			w := Buffered(file)
			want := bytes.Repeat([]byte{byte(n)}, 4*pieceBytes+n)
			for range 2 {
				if _, err := w.Write(want); err != nil {
					outcomes <- err
					return
				}
			}
			err := w.Commit()
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
