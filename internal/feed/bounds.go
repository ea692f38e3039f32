package feed

import (
	"bytes"
	"context"
	"io"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Bounds of what is taken for a feed file. The library for YAML takes time that grows with the square of the keys in one place,
// and memory that grows with the levels.
const (
	mostBytes    = 8 << 20
	mostKeys     = 200 // of one mapping: a feed file has no place with more
	mostInLine   = 10_000
	deepestIndex = 400 // spaces before a key
	deepestFlow  = 100 // brackets within each other
)

// ReadBounded reads a file, and one byte more than a feed file may have of one that is too large.
func ReadBounded(ctx context.Context, s storage.Store, uri string) ([]byte, error) {
	object, err := s.Stat(ctx, uri)
	if err != nil {
		return nil, err
	}
	file, err := s.Open(ctx, object)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(io.LimitReader(file, mostBytes+1))
}

// Plausible refuses a text that no feed file or run sheet has, before it is read as YAML.
func Plausible(text []byte) error {
	refuse := func(line int, reason string, args ...any) error {
		e := fault.New(fault.Usage, "is no feed file: "+reason,
			args...).Try("the keys are described in docs/schema.md, and for editors by").By(fault.DescribeFeeds)
		e.Line = int64(line)
		return e
	}
	if len(text) > mostBytes {
		return refuse(0, "it has more than %d bytes", mostBytes)
	}
	number, keys, indent := 0, 0, -1
	for line := range bytes.Lines(text) {
		number++
		content := bytes.TrimLeft(line, " ")
		at := len(line) - len(content)
		switch {
		case bytes.Count(line, []byte(":")) > mostInLine:
			return refuse(number, "a line holds more than %d keys", mostInLine)
		case at > deepestIndex || flowDepth(line) > deepestFlow:
			return refuse(number, "its values lie too deep within each other")
		case len(content) == 0 || content[0] == '#' || content[0] == '-' || content[0] == '\n':
			// Comments and the items of lists begin no mapping, but the latter end one.
			if len(content) > 0 && content[0] == '-' {
				keys, indent = 0, -1
			}
			continue
		}
		if at != indent {
			keys, indent = 0, at
		}
		if keys++; keys > mostKeys {
			return refuse(number, "it has more than %d keys in one place", mostKeys)
		}
	}
	return nil
}

// flowDepth returns how many brackets of a line lie within each other at most.
func flowDepth(line []byte) int {
	depth, deepest := 0, 0
	for _, c := range line {
		switch c {
		case '[', '{':
			depth++
			deepest = max(deepest, depth)
		case ']', '}':
			depth--
		}
	}
	return deepest
}
