package storage

import (
	"context"
	"errors"
	"io"
	"io/fs"
)

// NewOutStage gathers one object for a stream, as standard output is one. It is kept in a temporary file until it is published: what
// went out cannot be taken back.
func NewOutStage(out io.Writer) Stage { return &outStage{out: out} }

type outStage struct {
	out  io.Writer
	kept *Scratch
}

// Create begins the object anew, whatever its name.
func (s *outStage) Create(context.Context, string) (Writer, error) {
	if err := s.Discard(context.Background()); err != nil {
		return nil, err
	}
	var err error
	s.kept, err = NewScratch("")
	return keptOut{s.kept}, err
}

// Publish sends the object out.
func (s *outStage) Publish(ctx context.Context, check func() error) error {
	if err := check(); err != nil || s.kept == nil {
		return err
	}
	if _, err := s.kept.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := io.Copy(s.out, s.kept)
	var call *fs.PathError
	if errors.As(err, &call) {
		// Whatever the stream is called, it is this one.
		err = call.Err
	}
	if lost := s.Discard(ctx); err == nil {
		err = lost
	}
	return err
}

func (s *outStage) Discard(context.Context) error {
	kept := s.kept
	if s.kept = nil; kept == nil {
		return nil
	}
	return kept.Close()
}

// keptOut writes to a temporary file, which its stage gives up.
type keptOut struct{ *Scratch }

func (keptOut) Commit() error { return nil }
func (keptOut) Abort() error  { return nil }
