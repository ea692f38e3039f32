// Package source settles what a run reads: which objects, and how each of them is read.
//
// What comes in is what the user says of the source; what goes out are inputs, which are objects with their reading rules, in
// an order that is always the same. Objects of one source are read alike, or the source is refused.
package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"trevak/internal/ahead"
	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/parse"
	"trevak/internal/parse/geojson"
	"trevak/internal/parse/json"
	"trevak/internal/parse/xml"
	"trevak/internal/quarantine"
	"trevak/internal/schema"
	"trevak/internal/sheet"
	"trevak/internal/sniff"
)

// Input is an object and how it is read.
type Input struct {
	locate.Object
	Rules sniff.Rules
	// SkipRows is how many lines at the start are no part of the data.
	SkipRows int
	// Limits are those of the run.
	Limits Limits
	// Shape is what was found of an XML document.
	Shape xml.Shape
	// WKB says that features of GeoJSON are read as rows of their properties.
	WKB bool
	// Own is the schema of a columnar file.
	Own schema.Schema
	// Quarantined says that the object holds records that were kept back before, to be unwrapped.
	Quarantined bool
}

// Text starts reading the object's text as UTF-8, and notes in limits where it begins. The stream is to be closed.
func (in Input) Text(ctx context.Context, limits *parse.Limits) (*locate.Stream, io.Reader, error) {
	stream, err := in.Open(ctx)
	if err != nil {
		return nil, nil, err
	}
	var text io.Reader = stream
	if in.Quarantined {
		text = quarantine.Unwrap(stream)
	}
	if text, err = sniff.Decode(text, in.Rules.Encoding); err != nil {
		stream.Close()
		return nil, nil, err
	}
	limits.SkipLines, limits.StartOffset, limits.StartLine = in.SkipRows, 0, 0
	if in.Rules.Records != nil || in.Rules.Values {
		following := json.Following{Path: in.Rules.Records, Values: in.Rules.Values || in.WKB, Foreseen: in.Rules.Foreseen,
			MaxDepth: in.Limits.Depth}
		records, err := json.Follow(text, following)
		if err != nil {
			stream.Close()
			return nil, nil, Located(err, in.Location)
		}
		limits.StartOffset, limits.StartLine = records.Offset, records.Line
		if !records.Placed() {
			limits.StartOffset = parse.NoOffset
		}
		text = records
		if in.WKB {
			limits.StartOffset = parse.NoOffset
			text = geojson.NewReader(text)
		}
	}
	if in.Rules.Format == sniff.Sheet {
		limits.SkipLines, limits.StartOffset, limits.StartLine = 0, parse.NoOffset, 1
		text = sheet.NewObjects(text, in.Rules.Names, in.SkipRows+in.Rules.HeaderRows)
	}
	if in.Rules.Format == sniff.XML {
		limits.StartOffset, limits.StartLine = parse.NoOffset, 1
		text = xml.NewReader(text, in.Shape)
	}
	return stream, text, nil
}

// Source is the objects a run reads, in order.
type Source struct {
	Inputs []Input
	// Empty and Hidden count files that were passed over, Passed are others.
	Empty, Hidden int
	Passed        []locate.Passed
	// Bytes is the size of all objects as stored.
	Bytes int64
	// Folded are the names that differ from those of earlier objects in letter case alone.
	Folded []Folded
}

// Folded is a column that an object writes in another letter case than an earlier one.
type Folded struct{ Location, Was, Is string }

// lookTogether is how many objects are looked at at a time.
const lookTogether = 8

// keptBack reports whether the object is a file of what was kept back before: that is loaded when it is named, not because it lies there.
func (in Input) keptBack() bool { return in.Quarantined && in.Matched }

// Survey finds the objects and settles how each is read.
func Survey(ctx context.Context, r Reading) (*Source, error) {
	if err := r.Resolve(ctx); err != nil {
		return nil, err
	}
	s := &Source{Empty: r.found.Empty, Hidden: r.found.Hidden, Passed: r.found.Passed}
	objects := r.found.Objects
	together := lookTogether
	if len(objects) > 0 {
		together = max(together, objects[0].InFlight())
	}
	err := ahead.Each(ctx, len(objects), together, 1, func(ctx context.Context, i int, send func(Input) error) error {
		object := objects[i]
		object.MayExpand = r.MayExpand
		in, err := Look(ctx, object, r.Stated)
		if err != nil {
			return err
		}
		if !in.keptBack() {
			if err := r.Limits.CheckColumns(len(in.Rules.Names), in.Location); err != nil {
				return err
			}
			in.Limits = r.Limits
			if in.Rules.Format.Columnar() {
				if err := in.LookInto(ctx); err != nil {
					return err
				}
			}
		}
		return send(in)
	}, func(i int, in Input) error {
		if in.keptBack() {
			s.Passed = append(s.Passed, locate.Passed{Location: in.Location, What: "quarantine file"})
			return nil
		}
		s.Inputs = append(s.Inputs, in)
		s.Bytes += objects[i].Size
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(s.Inputs) == 0 {
		return nil, fault.New(fault.Input, "there is nothing to read but quarantine files").Try("to load what was kept back, name "+
			"the file: %s", s.Passed[len(s.Passed)-1].Location)
	}
	if r.WKB {
		if err := s.asWKB(); err != nil {
			return nil, err
		}
	}
	if err := s.agreeOnRecords(r.Looking); err != nil {
		return nil, err
	}
	if err := s.surveyXML(ctx, r); err != nil {
		return nil, err
	}
	s.headersOfSiblings()
	if !r.Mixed {
		if err := s.belongTogether(); err != nil {
			return nil, err
		}
	}
	if err := s.agree(r.Stated, r.Mixed); err != nil {
		return nil, err
	}
	if err := s.speaks(r.Particular); err != nil {
		return nil, err
	}
	if !r.Looking && (!r.Mixed || r.Unsure == UnsureStop) {
		if err := s.settleDoubts(r.Unsure); err != nil {
			return nil, err
		}
	}
	s.unify()
	return s, nil
}

// unify gives a column one name where the files of a source differ in its letter case: that of the first.
func (s *Source) unify() {
	first := map[string]string{}
	for i := range s.Inputs {
		rules := &s.Inputs[i].Rules
		names := rules.Names
		for c, name := range names {
			known, ok := first[strings.ToLower(name)]
			switch {
			case !ok:
				first[strings.ToLower(name)] = name
			case known != name && !slices.Contains(rules.Names, known):
				if &names[0] == &rules.Names[0] {
					names = slices.Clone(names)
				}
				names[c] = known
				s.Folded = append(s.Folded, Folded{Location: s.Inputs[i].Location, Was: name, Is: known})
			}
		}
		rules.Names = names
	}
}

// Look looks at the beginning of one object.
func Look(ctx context.Context, object locate.Object, stated sniff.Stated) (Input, error) {
	in := Input{Object: object, SkipRows: stated.SkipRows}
	stream, err := object.Open(ctx)
	if err != nil {
		return in, err
	}
	defer stream.Close()
	text := heads.Get().(*bufio.Reader)
	text.Reset(stream)
	defer heads.Put(text)
	// Errors are met again below, where they are told.
	start, _ := text.Peek(sniff.HeadBytes)
	var from io.Reader = text
	var kept quarantine.Record
	if kept, in.Quarantined = quarantine.First(start); in.Quarantined {
		from = quarantine.Unwrap(text)
		stated = keptRules(kept, stated)
		in.SkipRows = 0
	}
	var e *fault.Error
	if errors.As(sniff.Foreign(start), &e) {
		return in, e.In(object.Location)
	}
	encoding := sniff.DetectEncoding(start)
	stated.Sheet = object.Sheet
	switch {
	case object.Sheet:
		encoding = sniff.Reason{Rule: "encoding", Value: sniff.UTF8, Why: "that of workbooks"}
	case in.Quarantined:
		encoding = sniff.Reason{Rule: "encoding", Value: sniff.UTF8, Why: "quarantine files are"}
	case stated.Encoding != "":
		encoding = sniff.Reason{Rule: "encoding", Value: stated.Encoding, Why: "stated"}
	}
	if from, err = sniff.Decode(from, encoding.Value); err != nil {
		return in, err
	}
	stated.Name = object.Location
	in.Rules, err = settleFrom(from, stream.Compression, encoding, stated)
	in.SkipRows += in.Rules.Skip
	if errors.As(err, &e) {
		return in, e.In(object.Location)
	}
	return in, err
}

// heads are buffers for the beginnings of objects, of which there may be very many.
var heads = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, sniff.HeadBytes) }}

// readHead reads up to so many bytes, in no more memory than they need where they are few.
func readHead(from io.Reader, head []byte, size int) ([]byte, error) {
	const few, times = 8 << 10, 4
	for len(head) < size {
		if len(head) == cap(head) {
			head = append(make([]byte, 0, min(size, max(few, times*len(head)))), head...)
		}
		n, err := from.Read(head[len(head):min(cap(head), size)])
		if head = head[:len(head)+n]; err != nil {
			return head, err
		}
	}
	return head, nil
}

// keptRules states how records of a quarantine file are read, as they were before, where the user does not state it.
func keptRules(kept quarantine.Record, stated sniff.Stated) sniff.Stated {
	stated.SkipRows, stated.Encoding, stated.Records = 0, "", ""
	if kept.Delimiter == "" {
		return stated
	}
	if stated.Delimiter == "" {
		stated.Delimiter = kept.Delimiter
	}
	if len(stated.Columns) == 0 {
		stated.Columns = kept.Columns
	}
	rows := 0
	if kept.Header != "" {
		rows = 1
	}
	stated.HeaderRows = &rows
	return stated
}

// settleFrom looks at as much of an object as it takes to see a whole record.
func settleFrom(from io.Reader, packing locate.Compression, encoding sniff.Reason, stated sniff.Stated) (sniff.Rules, error) {
	var head []byte
	for size := sniff.HeadBytes; ; size *= 8 {
		var err error
		head, err = readHead(from, head, size)
		if stated.SkipRows > 0 {
			head = dropLines(head, stated.SkipRows)
			stated.SkipRows = 0
		}
		whole := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !whole {
			return sniff.Rules{}, err
		}
		if len(head) == 0 {
			return sniff.Rules{}, fault.New(fault.Input, "is packed, but holds nothing").Try("leave it out of the source")
		}
		rules, err := sniff.Settle(head, whole, packing, encoding, stated)
		if errors.Is(err, sniff.ErrMore) && !whole && len(head) < parse.DefaultLimits.RecordBytes {
			continue
		}
		if errors.Is(err, sniff.ErrMore) {
			err = fault.New(fault.Input, "has no end of its first record within %d bytes", len(head)).
				Try("a quote that is never closed does this; otherwise the delimiter or the format is another")
		}
		return rules, err
	}
}

// dropLines leaves out the first n lines.
func dropLines(text []byte, n int) []byte {
	for range n {
		_, text, _ = bytes.Cut(text, []byte("\n"))
	}
	return text
}

// agree makes the objects of one source be read alike: one format for all, and a header everywhere if the first record of an
// object that seems to have none is the header of another.
func (s *Source) agree(stated sniff.Stated, mixed bool) error {
	first := s.Inputs[0]
	for _, in := range s.Inputs[1:] {
		if in.Rules.Format.Family() != first.Rules.Format.Family() {
			return fault.New(fault.Usage, "the source holds %s (%s) and %s (%s); one run reads one format", first.Rules.Format,
				first.Location,
				in.Rules.Format, in.Location).Try("name the files of one format only")
		}
	}
	if first.Rules.Format != sniff.Delimited || stated.HeaderRows != nil || len(stated.Columns) > 0 {
		return nil
	}
	var names []string
	for _, in := range s.Inputs {
		if in.Rules.Header {
			names = in.Rules.Names
			break
		}
	}
	for i := range s.Inputs {
		rules := &s.Inputs[i].Rules
		switch {
		case names == nil || rules.Header:
		case mixed && !slices.Equal(rules.First, names):
			// It is asked for although it is unlike the others.
		case slices.ContainsFunc(rules.First, func(field string) bool { return !slices.Contains(names, strings.TrimSpace(field)) }):
			return fault.New(fault.Input, "seems to have no header, while other objects of the source have one").In(s.Inputs[i].Location).
				Try("state --header or --no-header, or load it by itself")
		default:
			rules.UseHeader("its first record is the header of the other files")
		}
	}
	return nil
}

// Format returns the format of all objects.
func (s *Source) Format() sniff.Format { return s.Inputs[0].Rules.Format }
