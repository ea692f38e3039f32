// Package parse cuts a stream of bytes into blocks of whole records. The packages below it cut records into fields.
//
// What comes in is one object's unpacked bytes; what goes out are blocks in order, each with the place of its first byte, so
// that every record knows its object, line and byte offset. Blocks can be worked on independently of each other.
package parse

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"unicode/utf8"

	"trevak/internal/fault"
)

// Block is a run of whole records of one object.
type Block struct {
	// Object is the object's number among the source's.
	Object int
	// Index numbers the blocks of an object from 0.
	Index int
	// Offset is the byte offset of Data[0] in the unpacked object.
	Offset int64
	// Line is the 1-based line of Data[0].
	Line int64
	// Data holds the records, the last with or without its line end.
	Data []byte

	lines func([]byte) int
}

// LineAt returns the 1-based line of the byte at an offset within Data.
func (b *Block) LineAt(at int) int64 {
	if b.lines != nil {
		return b.Line + int64(b.lines(b.Data[:at]))
	}
	return b.Line + int64(bytes.Count(b.Data[:at], []byte{'\n'}))
}

// Cutter knows where records end.
type Cutter interface {
	// Cut returns the length of the whole records at the start of buf, 0 when not even one is complete.
	Cut(buf []byte) int
}

// LineCounter is a Cutter that knows other line ends than line feeds.
type LineCounter interface {
	// Lines returns how many lines end in a text.
	Lines(text []byte) int
}

// LineCutter is a LineCounter that counts lines while it cuts.
type LineCutter interface {
	LineCounter
	// CutLines returns what Cut does, and how many lines end in that.
	CutLines(buf []byte) (cut, lines int)
}

// Problem is a record, or a part of one, that cannot be read.
type Problem struct {
	// Start and End delimit the record within the block, in bytes.
	Start, End int
	// Code names the sort of problem, for counting.
	Code Code
	// Column is the column at fault, by its name in the source; empty where it is the record as a whole.
	Column string
	// Value is the offending text, for a column.
	Value string
	// Reason says what is wrong: of the record "has 3 fields where 4 are expected", of a value "is not a double".
	Reason string
	// WayOut says what the user can do.
	WayOut string
	// Widens is set when the column's type was inferred, so that inference over more records would give one that fits.
	Widens bool
}

// Code names a sort of problem.
type Code string

// The sorts of problems.
const (
	TooFewFields  Code = "too-few-fields"
	TooManyFields Code = "too-many-fields"
	StrayText     Code = "text-after-quote"
	OpenQuote     Code = "open-quote"
	NotUTF8       Code = "not-utf-8"
	BadJSON       Code = "bad-json"
	DoesNotFit    Code = "does-not-fit"
	UnknownColumn Code = "unknown-column"
	NoValue       Code = "no-value"
	BreaksCheck   Code = "breaks-check"
)

// Limits bound what one record may take.
type Limits struct {
	// BlockBytes is the usual size of a block.
	BlockBytes int
	// RecordBytes is the most that one record may have.
	RecordBytes int
	// StartOffset and StartLine are the place of the first byte where that is not the first of the object.
	StartOffset, StartLine int64
	// StartIndex is the number of the first block where that is not the first of the object.
	StartIndex int
	// SkipLines is how many lines at the start of an object are passed over, whatever they hold.
	SkipLines int
}

// NoOffset is the StartOffset of a stream that is made of an object's records and not cut from its text: what lies in it has no
// byte offset.
const NoOffset = math.MinInt64 / 2

// KnownOffset returns an offset where it is one, and nil otherwise.
func KnownOffset(offset int64) *int64 {
	if offset < 0 {
		return nil
	}
	return &offset
}

// DefaultLimits are 1 MiB blocks and 64 MiB records.
var DefaultLimits = Limits{BlockBytes: 1 << 20, RecordBytes: 64 << 20}

// lineFeeds counts line feeds.
func lineFeeds(text []byte) int { return bytes.Count(text, []byte{'\n'}) }

// byteOrderMark is how some programs begin a UTF-8 file.
const byteOrderMark = "\ufeff"

// Blocks reads r to its end and hands each block to emit, in order. alloc returns an empty buffer with room for at least n
// bytes; emit owns the block's data from then on. A byte order mark at the start is passed over.
func Blocks(ctx context.Context, r io.Reader, cutter Cutter, limits Limits, alloc func(n int) ([]byte, error),
	emit func(Block) error) error {
	s := splitter{cutter: cutter, limits: limits, alloc: alloc, emit: emit, block: Block{Line: 1, lines: lineFeeds}}
	if counter, ok := cutter.(LineCounter); ok {
		s.block.lines = counter.Lines
	}
	if limits.StartLine > 0 {
		s.block.Offset, s.block.Line, s.block.Index = limits.StartOffset, limits.StartLine, limits.StartIndex
	}
	buf, err := alloc(limits.BlockBytes)
	if err != nil {
		return err
	}
	buf, err = fill(r, buf, len(byteOrderMark))
	if limits.StartIndex == 0 && bytes.HasPrefix(buf, []byte(byteOrderMark)) {
		s.block.Offset = int64(len(byteOrderMark))
		buf = append(buf[:0], buf[len(byteOrderMark):]...)
	}
	for skipped := 0; skipped < limits.SkipLines; {
		if end := bytes.IndexByte(buf, '\n'); end >= 0 {
			skipped++
			s.block.Offset += int64(end + 1)
			s.block.Line++
			buf = append(buf[:0], buf[end+1:]...)
			continue
		}
		if err != nil {
			buf = buf[:0]
			break
		}
		buf, err = fill(r, buf, len(buf)+1)
	}
	for err == nil {
		if err = ctx.Err(); err != nil {
			return err
		}
		want := limits.BlockBytes
		if len(buf) >= want {
			want = cap(buf)
		}
		if buf, err = fill(r, buf, want); err == nil {
			buf, err = s.take(buf)
		}
	}
	if !errors.Is(err, io.EOF) {
		return err
	}
	if len(buf) == 0 {
		return nil
	}
	s.block.Data = buf
	return emit(s.block)
}

// splitter cuts a growing buffer into blocks.
type splitter struct {
	cutter Cutter
	limits Limits
	alloc  func(n int) ([]byte, error)
	emit   func(Block) error
	block  Block
}

// take sends on the whole records of a full buffer and returns a buffer with the rest.
func (s *splitter) take(buf []byte) ([]byte, error) {
	if counter, ok := s.cutter.(LineCutter); ok {
		if cut, lines := counter.CutLines(buf); cut > 0 {
			return s.send(buf, cut, lines)
		}
	} else if cut := s.cutter.Cut(buf); cut > 0 {
		return s.send(buf, cut, s.block.lines(buf[:cut]))
	}
	if len(buf) >= s.limits.RecordBytes {
		return nil, &fault.Error{Kind: fault.Input, Line: s.block.Line,
			Reason: "the record that begins here does not end within the largest size of a record",
			WayOut: "a quote that is never closed does this; otherwise check the reading rules, or allow more with --max-record"}
	}
	bigger := make([]byte, len(buf), min(2*len(buf), max(s.limits.RecordBytes, len(buf)+1)))
	copy(bigger, buf)
	return bigger, nil
}

// send emits the first cut bytes of buf, in which so many lines end, and returns a fresh buffer with what follows them.
func (s *splitter) send(buf []byte, cut, lines int) ([]byte, error) {
	rest := buf[cut:]
	next, err := s.alloc(max(s.limits.BlockBytes, 2*len(rest)+1))
	if err != nil {
		return nil, err
	}
	next = append(next[:0], rest...)
	s.block.Data = buf[:cut]
	block := s.block
	s.block.Index++
	s.block.Offset += int64(cut)
	s.block.Line += int64(lines)
	return next, s.emit(block)
}

// fill reads until buf holds at least want bytes, using no more room than it has, and returns io.EOF at the end of r.
func fill(r io.Reader, buf []byte, want int) ([]byte, error) {
	if cap(buf) < want {
		grown := make([]byte, len(buf), want)
		copy(grown, buf)
		buf = grown
	}
	for len(buf) < want {
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err != nil {
			return buf, err
		}
	}
	return buf, nil
}

// NotText describes the record between start and end of the block, which holds bytes that are not UTF-8.
func NotText(block *Block, start, end int) Problem {
	at := start
	for at < end {
		r, size := utf8.DecodeRune(block.Data[at:end])
		if r == utf8.RuneError && size == 1 {
			break
		}
		at += size
	}
	return Problem{Start: start, End: end, Code: NotUTF8,
		Reason: fmt.Sprintf("holds the byte 0x%02X, which is not UTF-8, at byte %d of the record", block.Data[min(at, end-1)],
			at-start+1),
		WayOut: "if the file has another encoding, state it, like --encoding windows-1252; or mend the record"}
}
