package write

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/quarantine"
	"trevak/internal/scan"
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// Tolerance is how many records may fail to become rows: a number, or a share of all records.
type Tolerance struct {
	Count   int64
	Percent float64
	Share   bool
}

// ParseTolerance reads a number or a percentage, as a flag states it: 100, 1%, 0.5%.
func ParseTolerance(flag, text string) (Tolerance, error) {
	bad := fault.New(fault.Usage, "%s %q is no limit", flag, text).Try("write a number or a share, like 100 or 0.5%%")
	if share, ok := strings.CutSuffix(text, "%"); ok {
		p, err := strconv.ParseFloat(share, 64)
		if err != nil || !(p >= 0 && p <= 100) {
			return Tolerance{}, bad
		}
		return Tolerance{Percent: p, Share: true}, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return Tolerance{}, bad
	}
	return Tolerance{Count: n}, nil
}

// String writes the limit as it is stated.
func (t Tolerance) String() string {
	if t.Share {
		return strconv.FormatFloat(t.Percent, 'g', -1, 64) + "%"
	}
	return strconv.FormatInt(t.Count, 10)
}

// exceeded reports whether so many bad records of all are too many. A share can be judged only at the end.
func (t Tolerance) exceeded(bad, all int64, end bool) bool {
	if t.Share {
		return end && float64(bad)*100 > t.Percent*float64(all)
	}
	return bad > t.Count
}

// ReasonGroup is the records that failed for one reason.
type ReasonGroup struct {
	Reason  parse.Code
	Records int64
	// Location and Line are the first one's place, Message says what was wrong with it.
	Location string
	Line     int64
	Message  string
}

// Refusal is the error of a run in which too many records failed.
type Refusal struct {
	// First is the first record that failed.
	First *fault.Error
	// Bad is how many failed of Records that were read; All says that the source was read to its end.
	Bad, Records int64
	All          bool
	Limit        Tolerance
	Groups       []ReasonGroup
	// Quarantine is the file that holds them; Unkept says why it does not.
	Quarantine string
	Unkept     error
}

// Error is the first record's.
func (r *Refusal) Error() string { return r.First.Error() }

// Unwrap returns the first record's error.
func (r *Refusal) Unwrap() error { return r.First }

// mostRefused is after how many bad records a run that is refused anyway looks for no more.
const mostRefused = 1000

// tally counts the bad records of one writing pass and sends them to the quarantine.
type tally struct {
	limit  Tolerance
	file   *quarantine.File
	bad    int64
	first  *fault.Error
	groups []ReasonGroup
	unkept error // why the records cannot be kept
	stray  unquoted
	over   bool // the limit is exceeded: the run goes on only to tell what else is wrong
}

// add takes the problems of a block of an object.
func (t *tally) add(ctx context.Context, in source.Input, block *parse.Block, problems []parse.Problem) error {
	for _, p := range problems {
		e := scan.ProblemError(in.Location, block.LineAt(p.Start), p)
		if p.Code != parse.BreaksCheck {
			// Records that break a rule are where the rule says, and count against no limit.
			if t.first == nil {
				t.first = e
			}
			t.bad++
		}
		at := slices.IndexFunc(t.groups, func(g ReasonGroup) bool { return g.Reason == p.Code })
		if at < 0 {
			at = len(t.groups)
			t.groups = append(t.groups, ReasonGroup{Reason: p.Code, Location: in.Location, Line: e.Line, Message: reasonOf(e)})
		}
		t.groups[at].Records++
		t.stray.add(in, block.Data[p.Start:p.End], p.Code)
		record := quarantine.Record{Object: in.Location, Line: e.Line, ByteOffset: parse.KnownOffset(block.Offset + int64(p.Start)),
			Column: p.Column, Reason: p.Code,
			Message: reasonOf(e), Header: in.Rules.HeaderText}
		if in.Rules.Format == sniff.Delimited {
			record.Delimiter = in.Rules.Dialect.DelimiterText()
			if record.Header == "" {
				record.Columns = in.Rules.Names
			}
		}
		if t.unkept != nil {
			continue
		}
		err := t.file.Add(ctx, record, block.Data[p.Start:p.End])
		if err != nil && (fault.KindOf(err) != fault.Storage || !t.limit.exceeded(t.bad, t.bad, false)) {
			return err
		}
		// The run is refused anyway: what is wrong with the records matters more than that they cannot be kept.
		t.unkept = err
	}
	return nil
}

// reasonOf says what is wrong without the place.
func reasonOf(e *fault.Error) string {
	bare := *e
	bare.Object, bare.Line, bare.WayOut = "", 0, ""
	return bare.Error()
}

// refusal makes the error of a run that the limit ends.
func (t *tally) refusal(records int64, all bool) *Refusal {
	if advice := t.stray.advice(); advice != "" && t.first != nil {
		t.first.WayOut += "; or " + advice
	}
	return &Refusal{First: t.first, Bad: t.bad, Records: records, All: all, Limit: t.limit, Groups: t.groups, Quarantine: t.file.URI(),
		Unkept: t.unkept}
}

// quarantineName is where bad records go when no file is named.
func quarantineName(target string, now time.Time) string {
	return fmt.Sprintf("quarantine-%s-%s.ndjson", strings.TrimSuffix(filepath.Base(target), ".parquet"),
		now.UTC().Format("20060102T150405.000000"))
}
