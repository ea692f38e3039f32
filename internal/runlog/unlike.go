package runlog

import (
	"context"
	"fmt"
	"slices"

	"trevak/internal/wording"
)

// How many runs a load is held against, and how many there have to be.
const (
	mostBefore  = 20
	leastBefore = 5
	// fewValues is how many values of a column may be known for one to be pointed out that is new.
	fewValues = 50
)

// Unlike tells in what a load is unlike those of the same feed into the same table before it: in rows, bytes, nulls, and values of columns
// which had few. It is so when it lies outside of the range of the last 20 by more than the width of that range, or than a tenth of the
// largest where that is more. Where loads gather what happens to come together, rows and bytes are those of an object.
func (l *Log) Unlike(ctx context.Context, f Load, gathered bool) ([]string, error) {
	before, err := l.before(ctx, f)
	if err != nil || len(before) < leastBefore {
		return nil, err
	}
	var out []string
	of := func(what string, each func(Load) int64) {
		if gathered {
			all := each
			what, each = what+" an object", func(b Load) int64 { return all(b) / max(1, b.Objects) }
		}
		is, values := each(f), make([]int64, len(before))
		for i, b := range before {
			values[i] = each(b.Load)
		}
		low, high := slices.Min(values), slices.Max(values)
		if room := max(high-low, high/10); is < low-room || is > high+room {
			out = append(out, fmt.Sprintf("%s %s; the last %d runs had %s", wording.English.Sprintf("%d", is), what, len(before),
				between(low, high)))
		}
	}
	of("rows", func(b Load) int64 { return b.RowsWritten })
	of("bytes", func(b Load) int64 { return b.BytesRead })
	for _, c := range f.Columns {
		more, err := l.columnUnlike(ctx, f, c, before)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

func between(low, high int64) string {
	if low == high {
		return wording.English.Sprintf("%d", low)
	}
	return wording.English.Sprintf("%d to %d", low, high)
}

// numbered is a load of a run.
type numbered struct {
	run int64
	Load
}

// before are the last loads of the same feed into the same table that took something in, the newest first.
func (l *Log) before(ctx context.Context, f Load) (out []numbered, err error) {
	err = l.each(ctx, `SELECT run_id, objects, rows_written, bytes_read FROM trevak_loads WHERE feed = $1 AND table_name = $2 AND outcome
		= 'loaded'
		ORDER BY run_id DESC LIMIT `+fmt.Sprint(mostBefore), []any{f.Feed, f.Table}, func(scan func(...any) error) error {
		var n numbered
		err := scan(&n.run, &n.Objects, &n.RowsWritten, &n.BytesRead)
		out = append(out, n)
		return err
	})
	return out, err
}

// columnUnlike holds the nulls and the values of a column against those before.
func (l *Log) columnUnlike(ctx context.Context, f Load, c Column, before []numbered) (out []string, err error) {
	oldest := before[len(before)-1].run
	low, high, runs, few := 1.0, 0.0, 0, true
	err = l.each(ctx, `SELECT value_count, null_count, few FROM trevak_columns WHERE feed = $1 AND table_name = $2 AND column_name = $3
		AND run_id >= $4 AND run_id IN (SELECT run_id FROM trevak_loads WHERE feed = $1 AND table_name = $2 AND outcome = 'loaded')`,
		[]any{f.Feed, f.Table, c.Name, oldest}, func(scan func(...any) error) error {
			var values, nulls, isFew int64
			if err := scan(&values, &nulls, &isFew); err != nil {
				return err
			}
			few = few && isFew == 1
			if values+nulls > 0 {
				share := float64(nulls) / float64(values+nulls)
				low, high = min(low, share), max(high, share)
				runs++
			}
			return nil
		})
	if err != nil || runs < leastBefore {
		return nil, err
	}
	if n := c.Values + c.Nulls; n > 0 {
		share, room := float64(c.Nulls)/float64(n), max(high-low, 0.05)
		if share > high+room || share < low-room {
			out = append(out, fmt.Sprintf("column %s: %.1f %% nulls; the last %d runs had %.1f to %.1f %%", c.Name, 100*share, runs, 100*low,
				100*high))
		}
	}
	if !few || !c.Few || len(c.Texts) == 0 {
		return out, nil
	}
	known := map[string]bool{}
	err = l.each(ctx, `SELECT DISTINCT value_text FROM trevak_values WHERE feed = $1 AND table_name = $2 AND column_name = $3 AND run_id
		>= $4`,
		[]any{f.Feed, f.Table, c.Name, oldest}, func(scan func(...any) error) error {
			var text string
			err := scan(&text)
			known[text] = true
			return err
		})
	if err != nil || len(known) == 0 || len(known) > fewValues {
		return out, err
	}
	var fresh []string
	for _, text := range c.Texts {
		if !known[text] {
			fresh = append(fresh, fmt.Sprintf("%q", text))
		}
	}
	if len(fresh) > 0 {
		out = append(out, fmt.Sprintf("column %s has %s, which the last %d runs did not have", c.Name, wording.Some(fresh), runs))
	}
	return out, nil
}
