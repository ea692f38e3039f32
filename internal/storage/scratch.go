package storage

import (
	"context"
	"errors"
	"io"
	"os"
	"runtime"

	"trevak/internal/fault"
)

// Scratch is a temporary file without a name, which is gone with the program whatever happens. The caller closes it.
type Scratch struct {
	*os.File
	named bool // where a file that is open cannot lose its name
}

// NewScratch makes a temporary file in a folder of the local disk, empty for the system's own place.
func NewScratch(folder string) (*Scratch, error) {
	file, err := os.CreateTemp(folder, ".trevak-rows-")
	if err != nil {
		return nil, err
	}
	s := &Scratch{file, runtime.GOOS == "windows"}
	if s.named {
		return s, nil
	}
	if err := os.Remove(file.Name()); err != nil {
		file.Close()
		return nil, err
	}
	return s, nil
}

// Close gives the file up.
func (s *Scratch) Close() error {
	err := s.File.Close()
	if s.named {
		os.Remove(s.Name())
	}
	return err
}

// ScratchFolder is where temporary files lie where nothing else is said.
func ScratchFolder() string { return os.TempDir() }

// WriteTo writes what a thing writes of itself to a file, which takes the place of what is there when it is whole.
func WriteTo(path string, thing io.WriterTo) error {
	w, err := Disk{}.Create(context.Background(), path, Creation{Mode: Replace})
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the file %s cannot be written", path)
	}
	if _, err := thing.WriteTo(w); err != nil {
		return errors.Join(fault.Wrap(fault.Storage, err, "the file %s cannot be written", path), w.Abort())
	}
	return fault.Wrap(fault.Storage, w.Commit(), "the file %s cannot be written", path)
}
