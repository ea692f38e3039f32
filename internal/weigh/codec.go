package weigh

import (
	"context"
	"fmt"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/columnar"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
)

// gainOfOwn is what a column must save with a codec of its own, of all bytes, to be given one.
const gainOfOwn = 0.005

// How many seconds trials of all columns may take: where they are what was asked for, and where they come before rows are written.
const (
	weighPatience = 1.5
	autoPatience  = 0.5
)

// mostTimes is how often a trial that takes little time is done, and manyParts from how many columns on it is done less often.
const (
	mostTimes = 4
	manyParts = 50
)

// timesFor is how often trials of the columns of a schema are done, so that tables of very many columns are not waited for long.
func timesFor(s schema.Schema) int {
	parts := 0
	for _, f := range s.Fields {
		parts += len(partsOf(f))
	}
	return max(1, min(mostTimes, mostTimes*manyParts/max(parts, 1)))
}

// Codecs settles by trial on a sample how the columns of files are compressed.
func Codecs(ctx context.Context, from scan.Source, of schema.Schema, format columnar.Format, favor Favor,
	b run.Budget) (all columnar.Codec, single map[string]columnar.Codec, err error) {
	rows, err := sample(ctx, from, of, b)
	if err != nil || rows.rows == 0 {
		return columnar.DefaultCodec, nil, err
	}
	w := &Weighing{Favor: favor, times: timesFor(rows.schema)}
	patience := autoPatience
	if favor == FavorSize {
		w.times, patience = 1, 0
	}
	if format == "" {
		format = columnar.Parquet
	}
	if err := w.whole(ctx, rows, format, patience); err != nil {
		return "", nil, err
	}
	// Columns have codecs of their own in Parquet alone.
	if format == columnar.Parquet {
		if err := w.worthwhile(ctx, rows); err != nil {
			return "", nil, err
		}
	}
	w.recommend()
	return columnar.ParseCodecs(w.Codec)
}

// Trials of all columns are done again, all codecs in turn, until the quickest time of each has not become quicker by
// equalPercent for calmRounds rounds. They are given up, and called unsteady, when they have taken too long.
const (
	calmRounds  = 3
	mostRounds  = 40
	fewestRound = 2
)

// whole tries all columns together, with every codec of a format. patience is how many seconds it may take before times are
// left as they are.
func (w *Weighing) whole(ctx context.Context, rows *sampleRows, format columnar.Format, patience float64) error {
	took, calm := 0.0, 0
	for n := 0; n < mostRounds && calm < calmRounds && (n < fewestRound || took < patience); n++ {
		calm++
		for i, codec := range codecsFor(format) {
			t, err := columnar.Try(ctx, rows.schema, rows.batches, format, codec, "", 1)
			if err != nil {
				return err
			}
			took += t.Seconds()
			if n == 0 {
				w.Whole = append(w.Whole, t)
				continue
			}
			before := w.Whole[i].Seconds()
			if w.Whole[i] = w.Whole[i].Again(t); w.Whole[i].Seconds()*100 < before*(100-equalPercent) {
				calm = 0
			}
		}
	}
	w.Steady = calm >= calmRounds
	return nil
}

// columns tries every column by itself, of nested ones every part, in every encoding that it can have.
func (w *Weighing) columns(ctx context.Context, rows *sampleRows) error {
	return eachPart(rows, func(p part, batches []arrow.RecordBatch) error {
		return w.column(ctx, p, batches, columnar.EncodingsOf(p.kind))
	})
}

// worthwhile tries the columns that may save enough to be given a codec of their own: hardly any becomes half as large by another.
func (w *Weighing) worthwhile(ctx context.Context, rows *sampleRows) error {
	best, _ := w.Favor.choose(w.Whole, w.Steady)
	return eachPart(rows, func(p part, batches []arrow.RecordBatch) error {
		t, err := columnar.Try(ctx, p.schema(), batches, columnar.Parquet, best.Codec, "", 1)
		if err != nil || float64(t.Bytes) < 2*gainOfOwn*float64(best.Bytes) {
			return err
		}
		return w.column(ctx, p, batches, nil)
	})
}

// eachPart hands on every column alone, of nested ones every part.
func eachPart(rows *sampleRows, to func(part, []arrow.RecordBatch) error) error {
	for at, f := range rows.schema.Fields {
		for _, p := range partsOf(f) {
			if err := to(p, p.of(rows.batches, at)); err != nil {
				return err
			}
		}
	}
	return nil
}

// column tries a column with every codec in the writer's own encoding, and with some in those that are forced on it.
func (w *Weighing) column(ctx context.Context, p part, batches []arrow.RecordBatch, encodings []string) error {
	c := WeighedColumn{Path: p.path, Type: p.kind.String()}
	for _, codec := range codecsTried {
		t, err := columnar.Try(ctx, p.schema(), batches, columnar.Parquet, codec, "", w.times)
		if err != nil {
			return err
		}
		c.Trials = append(c.Trials, t)
	}
	c.Best, c.PlainBytes = w.Favor.ofColumn(c.Trials), c.Trials[0].Bytes
	for _, encoding := range encodings {
		for _, codec := range []columnar.Codec{"none", "snappy", "zstd:3"} {
			t, err := columnar.Try(ctx, p.schema(), batches, columnar.Parquet, codec, encoding, w.times)
			if err != nil {
				return err
			}
			if c.Trials = append(c.Trials, t); encoding == "plain" && codec == "none" {
				c.PlainBytes = t.Bytes
			}
		}
	}
	w.PlainBytes += c.PlainBytes
	w.Columns = append(w.Columns, c)
	return nil
}

// recommend settles the codec of all columns, and those of columns that save enough with one of their own.
func (w *Weighing) recommend() {
	best, why := w.Favor.choose(w.Whole, w.Steady)
	w.Codec, w.Bytes, w.Reason = string(best.Codec), best.Bytes, why
	own, saved := "", int64(0)
	columns := 0
	for _, c := range w.Columns {
		with := c.Trials[slices.IndexFunc(c.Trials, func(t columnar.Trial) bool { return t.Codec == best.Codec && t.Encoding == "" })]
		if gain := with.Bytes - c.Best.Bytes; smaller(c.Best, with, equalPercent) && float64(gain) > gainOfOwn*float64(best.Bytes) {
			own += "," + c.Path + "=" + string(c.Best.Codec)
			columns, saved = columns+1, saved+gain
		}
	}
	if saved*100 < best.Bytes*equalPercent {
		return
	}
	w.Codec, w.Bytes = w.Codec+own, w.Bytes-saved
	theirs := "1 column with a codec of its own saves"
	if columns > 1 {
		theirs = fmt.Sprintf("%d columns with codecs of their own save", columns)
	}
	w.Reason += fmt.Sprintf("; %s %.0f%% more", theirs, 100*float64(saved)/float64(max(1, best.Bytes)))
}
