package scan

import (
	"bytes"
	"context"

	"trevak/internal/ahead"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// A sample is taken in sampleSpots spots, spread over up to sampleObjects objects and through each. Together they are about one
// part in sampleShare of the source, within bounds: what they miss costs another reading of all of it.
const (
	SmallBytes    = 4 << 20 // the stored size up to which a sample would save nothing
	sampleObjects = 64
	sampleSpots   = 16
	sampleShare   = 100
	leastSpot     = 64 << 10
	mostSpot      = 1 << 20
)

// Objects that cannot be read from within are sampled by every eighth block of their first bytes: of all such together of one byte
// for every strideShare stored ones, within bounds.
const (
	strideBlocks = 8
	strideShare  = 4
	leastStride  = 4 << 20
	mostStride   = 32 << 20
)

// Sample is a choice of parts of a source, for a pass over these alone.
type Sample struct {
	// spot is the size of a spot in bytes.
	spot int
	// AssumedStarts are the offsets, by object, at which records were taken to begin without the text before them having been
	// read. What they showed holds only if records do begin there, which the writing pass sees.
	AssumedStarts map[int][]int64
}

// NewSample returns an empty sample that shows the types of a source of so many bytes.
func NewSample(bytes int64) *Sample {
	return NewSampleOf(min(max(bytes/(sampleShare*sampleSpots), leastSpot), mostSpot))
}

// NewSampleOf returns an empty sample with spots of so many bytes.
func NewSampleOf(spot int64) *Sample {
	return &Sample{spot: int(spot), AssumedStarts: map[int][]int64{}}
}

// MeasuredSpot is the size of a spot where sizes and speeds are measured: enough for values to repeat as they do in all of the source.
const MeasuredSpot = 256 << 10

// Choose returns the numbers of up to n objects, evenly spread, the first and the last among them.
func Choose(objects, n int) []int {
	if objects <= n {
		n = objects
	}
	out := make([]int, n)
	for i := range out {
		out[i] = i
		if objects > n {
			out[i] = i * (objects - 1) / (n - 1)
		}
	}
	return out
}

// readSample cuts parts of the source into blocks.
func (p pass) readSample(ctx context.Context, spare spareBuffers, emit func(job) error) error {
	chosen := Choose(len(p.source.Inputs), sampleObjects)
	spots := max(1, sampleSpots/len(chosen))
	number := 0
	return ahead.Each(ctx, len(chosen), p.readers(), waitingBlocks, func(ctx context.Context, n int, send func(piece) error) error {
		i := chosen[n]
		in := p.source.Inputs[i]
		each := func(s piece) error {
			s.block.Object = i
			return send(s)
		}
		if p.within(in, spots) {
			return source.Located(p.spots(ctx, i, spots, each), in.Location)
		}
		most := min(max(p.source.Bytes/strideShare, leastStride), mostStride) / int64(len(chosen))
		return source.Located(p.stride(ctx, i, spots, most, spare, each), in.Location)
	}, func(n int, s piece) error {
		if i := chosen[n]; s.assumed {
			p.sample.AssumedStarts[i] = append(p.sample.AssumedStarts[i], s.start)
		}
		number++
		return emit(job{number - 1, s.block, 0})
	})
}

// piece is a block of a sample; assumed says that a record was taken to begin at an offset of its object.
type piece struct {
	block   parse.Block
	start   int64
	assumed bool
}

// within reports whether an object can be read from within: lines of JSON, or delimited text, as it is stored.
func (p pass) within(in source.Input, spots int) bool {
	lines := in.Rules.Format == sniff.JSONLines || in.Rules.Format == sniff.Delimited && !in.Rules.Dialect.CR
	return lines && spots > 1 && !in.Quarantined && in.Rules.Encoding == sniff.UTF8 && in.Rules.Compression == locate.Plain &&
		in.Size > int64(4*spots*p.sample.spot)
}

// stride reads the beginning of an object, of so many bytes, and sends some of its blocks.
func (p pass) stride(ctx context.Context, i, spots int, most int64, spare spareBuffers, send func(piece) error) error {
	in := p.source.Inputs[i]
	limits := in.Limits.Parse()
	stream, text, err := in.Text(ctx, &limits)
	if err != nil {
		return err
	}
	defer stream.Close()
	limits.BlockBytes = min(limits.BlockBytes, 2*p.sample.spot)
	blocks := 0
	var first int64
	err = parse.Blocks(ctx, text, in.Cutter(), limits, spare.get, func(b parse.Block) error {
		if blocks++; blocks == 1 {
			first = b.Offset
		}
		if blocks > 1 && (spots == 1 || b.Offset-first > most) {
			return errEnough
		}
		if (blocks-1)%strideBlocks != 0 {
			return nil
		}
		return send(piece{block: b})
	})
	if err == errEnough {
		err = nil
	}
	return err
}

// spots reads the beginning of an object, and pieces from within it that can be told to begin with a record.
func (p pass) spots(ctx context.Context, i, spots int, send func(piece) error) error {
	in := p.source.Inputs[i]
	if err := p.stride(ctx, i, 1, 0, nil, send); err != nil {
		return err
	}
	var a aligner
	for n := 1; n < spots; n++ {
		offset := in.Size * int64(n) / int64(spots)
		text, ok, err := in.Section(ctx, offset, int64(p.sample.spot))
		if err != nil || !ok {
			return err
		}
		block, claim, ok := a.aligned(in, text, offset)
		if !ok {
			continue
		}
		if err := send(piece{block, claim, in.Rules.Format == sniff.Delimited}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// aligner has the memory for the records of one piece of text after the other.
type aligner struct {
	fields delimited.Records
	lines  json.Records
}

// aligned returns the whole records of a piece of text from the first line on, if they can be read as such, and where the first begins.
func (a *aligner) aligned(in source.Input, text []byte, offset int64) (block parse.Block, start int64, ok bool) {
	first := bytes.IndexByte(text, '\n') + 1
	last := bytes.LastIndexByte(text, '\n') + 1
	if first == 0 || last <= first {
		return block, 0, false
	}
	block = parse.Block{Data: text[first:last], Offset: offset + int64(first), Line: 1}
	if in.Rules.Format == sniff.JSONLines {
		parseJSON(&a.lines, in, &block)
		return block, block.Offset, len(a.lines.Problems) == 0
	}
	if cut := in.Rules.Dialect.Cut(block.Data); cut > 0 {
		block.Data = block.Data[:cut]
	}
	r := &a.fields
	parser := Parser(in.Rules)
	parser.Pad = false
	parser.Parse(&block, r)
	if len(r.Problems) > 0 || r.Rows == 0 {
		return block, 0, false
	}
	return block, block.Offset + int64(r.Start(0)), true
}
