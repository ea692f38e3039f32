package scan

import (
	"context"
	"io"

	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// Split is a part of an object that can be read without the rest of it.
type Split struct {
	// Object is the object's number among the source's.
	Object int
	// From and To are byte offsets at which records of text begin, To that of the end; both are 0 for an object that is read as
	// a whole. Line is that of the first record.
	From, To, Line int64
	// FirstGroup and EndGroup are row groups of a columnar file from the one to before the other.
	FirstGroup, EndGroup int
}

// wholeObjects is a split for each object.
func wholeObjects(inputs []source.Input) []Split {
	out := make([]Split, len(inputs))
	for i := range inputs {
		out[i].Object = i
	}
	return out
}

// divisible reports whether an object can be read from within: lines of JSON, or delimited text, as it is stored.
func divisible(in source.Input) bool {
	lines := in.Rules.Format == sniff.JSONLines || in.Rules.Format == sniff.Delimited && !in.Rules.Dialect.CR
	return lines && !in.Quarantined && in.Rules.Encoding == sniff.UTF8 && in.Rules.Compression == locate.Plain && in.AtHand()
}

// Plan cuts objects where records begin, which it reads through once without looking at fields.
func (t *text) Plan(ctx context.Context, bytes int64) ([]Split, error) {
	var out []Split
	for i, in := range t.source.Inputs {
		if !divisible(in) || in.Size <= bytes {
			out = append(out, Split{Object: i})
			continue
		}
		cut, err := divide(ctx, i, in, bytes)
		if err != nil {
			return nil, source.Located(err, in.Location)
		}
		out = append(out, cut...)
	}
	return out, nil
}

// divide cuts one object.
func divide(ctx context.Context, object int, in source.Input, bytes int64) ([]Split, error) {
	limits := in.Limits.Parse()
	stream, text, err := in.Text(ctx, &limits)
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	limits.BlockBytes = int(min(int64(limits.BlockBytes), max(leastSpot, bytes/2)))
	out := []Split{{Object: object}}
	var spare []byte
	alloc := func(n int) ([]byte, error) {
		if b := spare; cap(b) >= n {
			spare = nil
			return b[:0], nil
		}
		return make([]byte, 0, n), nil
	}
	err = parse.Blocks(ctx, text, in.Cutter(), limits, alloc, func(b parse.Block) error {
		last := &out[len(out)-1]
		if b.Index > 0 && b.Offset-last.From >= bytes {
			last.To = b.Offset
			out = append(out, Split{Object: object, From: b.Offset, Line: b.Line})
		}
		spare = b.Data
		return nil
	})
	if err == nil {
		err = stream.Unchanged()
	}
	if last := &out[len(out)-1]; len(out) > 1 {
		last.To = in.Size
	}
	return out, err
}

// readSplits cuts parts of objects into blocks.
func (p pass) readSplits(ctx context.Context, spare spareBuffers, emit func(job) error) error {
	number := 0
	var before int64
	for _, s := range p.splits {
		in := p.source.Inputs[s.Object]
		err := p.readSplit(ctx, s, spare, func(b parse.Block) error {
			b.Object = s.Object
			number++
			return emit(job{number - 1, b, before})
		})
		if err != nil {
			return source.Located(err, in.Location)
		}
		if before += s.To - s.From; s.To == 0 {
			before += in.Size
		}
	}
	return nil
}

func (p pass) readSplit(ctx context.Context, s Split, spare spareBuffers, emit func(parse.Block) error) error {
	in := p.source.Inputs[s.Object]
	limits := in.Limits.Parse()
	if s.To == 0 {
		stream, text, err := in.Text(ctx, &limits)
		if err != nil {
			return err
		}
		defer stream.Close()
		if err := parse.Blocks(ctx, text, in.Cutter(), limits, spare.get, emit); err != nil {
			return err
		}
		return stream.Unchanged()
	}
	file, err := in.File(ctx)
	if err != nil {
		return err
	}
	defer file.Close()
	if s.From > 0 {
		limits.StartOffset, limits.StartLine, limits.StartIndex = s.From, s.Line, 1
	} else {
		limits.SkipLines = in.SkipRows
	}
	if err := parse.Blocks(ctx, io.NewSectionReader(file, s.From, s.To-s.From), in.Cutter(), limits, spare.get, emit); err != nil {
		return err
	}
	return file.Unchanged()
}
