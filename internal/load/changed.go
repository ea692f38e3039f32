package load

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/zeebo/xxh3"

	"trevak/internal/amend"
	"trevak/internal/fault"
	"trevak/internal/ledger"
	"trevak/internal/locate"
	"trevak/internal/run"
	"trevak/internal/sniff"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Changed says what becomes of an object that was taken in before and is another now.
type Changed uint8

// ChangedByMode refuses where rows are appended, and takes the objects in where a key or a replacement decides. ChangedReplace has the
// rows that came of the object go in the commit that takes it in as it is; ChangedGrown takes in what came behind its old end.
const (
	ChangedByMode Changed = iota
	ChangedRefuse
	ChangedAppend
	ChangedReplace
	ChangedGrown
)

var changedNames = [...]string{"", "refuse", "append", "replace", "grown"}

// ChangedNames are what may be said of changed objects.
func ChangedNames() []string { return changedNames[1:] }

// ParseChanged reads one of ChangedNames, empty for what is usual in a mode.
func ParseChanged(text string) (Changed, error) {
	if i := slices.Index(changedNames[:], text); i >= 0 {
		return Changed(i), nil
	}
	return 0, fault.Unknown("changed", text, changedNames[1:]...)
}

// refuses reports whether objects that have changed are refused: where rows are appended, and where nothing else is said.
func (l Request) refuses() bool {
	return l.Changed == ChangedRefuse || l.Changed == ChangedByMode && l.Mode == Append
}

// changed looks at an object that has changed since it was taken in.
func (l *Request) changed(ctx context.Context, o locate.Object, was ledger.Entry) error {
	switch {
	case l.refuses():
		return fault.New(fault.Input, "was loaded into %s at %s, when it had %d bytes, and has changed since", l.Into,
			was.At.Format(time.RFC3339), was.Size).In(o.Location).
			Try("leave it out, or say what becomes of the rows that came of it: --changed replace swaps them for it, --changed append keeps " +
				"them beside it, and --changed grown takes in what is new at its end")
	case l.Changed == ChangedReplace:
		l.replaced = append(l.replaced, uriOf(o))
	case l.Changed == ChangedGrown:
		g, err := growth(ctx, o, was)
		if err != nil {
			return err
		}
		if l.Grown == nil {
			l.Grown = map[string]write.Growth{}
		}
		l.Grown[o.Location] = g
	}
	return nil
}

// growth tells where an object goes on that only got longer: it is as it was up to its old end, which is the end of a line.
func growth(ctx context.Context, o locate.Object, was ledger.Entry) (g write.Growth, err error) {
	no := func(why string) error {
		return fault.New(fault.Input, "cannot be gone on with where it ended at %s: %s", was.At.Format(time.RFC3339), why).In(o.Location).
			Try("have the object as it is take the place of the rows that came of it, with --changed replace")
	}
	if o.Size <= was.Size {
		return g, no(fmt.Sprintf("it had %d bytes, and has %d", was.Size, o.Size))
	}
	stream, err := o.Open(ctx)
	if err != nil {
		return g, err
	}
	defer stream.Close()
	if c := stream.Compression; c != locate.Plain {
		return g, no(fmt.Sprintf("it is packed by %s", c))
	}
	whole := xxh3.New()
	lines := lineCounter{}
	if _, err := io.CopyN(io.MultiWriter(whole, &lines), stream, was.Size); err != nil {
		return g, notRead(o, err)
	}
	if sum := whole.Sum128().Bytes(); hex.EncodeToString(sum[:]) != was.Hash {
		return g, no("what it had is not as it was")
	}
	g.From, g.Line, g.Records = was.Size, lines.n+1, was.Before+was.Records
	one := make([]byte, 1)
	if _, err := io.ReadFull(stream, one); err != nil {
		return g, notRead(o, err)
	}
	if lines.last != '\n' && one[0] != '\n' {
		return g, no("its last line was not at its end, and goes on")
	}
	if lines.last != '\n' {
		// The end of the last line belongs to what was read.
		g.From++
		g.Line++
	}
	// A hash never fails to take bytes.
	_, _ = whole.Write(one)
	if _, err := io.Copy(whole, stream); err != nil {
		return g, notRead(o, err)
	}
	sum := whole.Sum128().Bytes()
	g.Hash = hex.EncodeToString(sum[:])
	return g, stream.Unchanged()
}

func notRead(o locate.Object, err error) error {
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return fault.Wrap(fault.Storage, err, "cannot be read").(*fault.Error).In(o.Location)
}

// lineCounter counts the ends of lines that are written to it.
type lineCounter struct {
	n    int64
	last byte
}

func (c *lineCounter) Write(b []byte) (int, error) {
	if len(b) > 0 {
		c.n += int64(bytes.Count(b, []byte{'\n'}))
		c.last = b[len(b)-1]
	}
	return len(b), nil
}

// grownAsLines refuses to go on with objects that are no lines of their own.
func (w *pending) grownAsLines(l Request) error {
	for _, in := range w.data.Inputs {
		_, grown := l.Grown[in.Location]
		lines := in.Rules.Format == sniff.JSONLines || in.Rules.Format == sniff.Delimited && !in.Rules.Dialect.CR
		if grown && (!lines || in.Rules.Encoding != sniff.UTF8) {
			return fault.New(fault.Input, "cannot be gone on with where it ended: it is %s, in %s", in.Rules.Format, in.Rules.Encoding).
				In(in.Location).
				Try("have the object as it is take the place of the rows that came of it, with --changed replace")
		}
	}
	return nil
}

// origins are the numbers of the rows that came of some objects, of all loads that took one in.
func origins(ctx context.Context, t *table.Table, uris []string) (out []int64, rows int64, err error) {
	for _, name := range t.Ledger() {
		err := ledger.Read(ctx, t.Store(), t.LedgerFolder(), name, func(e ledger.Entry) error {
			if !slices.Contains(uris, e.URI) || e.Rows == 0 {
				return nil
			}
			if e.Origin == 0 {
				return fault.New(fault.Input, "was loaded into %s at %s by a load that did not note which rows came of it", t.Name,
					e.At.Format(time.RFC3339)).In(e.URI).
					Try("delete them by a condition, if there is one, and load it again with --changed append")
			}
			out, rows = append(out, e.Origin), rows+e.Rows
			return nil
		})
		if err != nil {
			return nil, 0, err
		}
	}
	slices.Sort(out)
	return slices.Compact(out), rows, nil
}

// swap has the rows go that came of objects which have changed, in the commit that takes these in as they are.
func (l Request) swap(ctx context.Context, w *pending, out *write.Output, b run.Budget) error {
	if len(l.replaced) == 0 {
		return nil
	}
	numbers, _, err := origins(ctx, w.existing, l.replaced)
	if err != nil {
		return err
	}
	taken, err := amend.TakeOut(ctx, w.existing, numbers, out, w.report.RowsWritten, b)
	if err != nil {
		return err
	}
	w.files = append(w.files, taken.Files...)
	w.report.DataFiles += len(taken.Files)
	for _, f := range taken.Files {
		w.report.BytesWritten += f.Summary.Bytes
	}
	for _, f := range taken.Deletes {
		w.report.BytesWritten += f.Summary.Bytes
	}
	w.load.Gain, w.load.Loss = new(w.report.RowsWritten), new(taken.Outcome.Rows)
	w.load.Deletes, w.load.Remove, w.load.Exact, w.load.Operation = taken.Deletes, taken.Remove, true, Replace.String()
	w.report.Merged = &write.Merged{Mode: Replace.String(), Outcome: taken.Outcome}
	return nil
}
