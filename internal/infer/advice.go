package infer

import (
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fit"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/wording"
)

// Advice is what the evidence suggests for a table.
type Advice struct {
	// Keys are columns by which one record is told from all others, Partitions fields by which rows could lie in folders.
	Keys       []KeyCandidate
	Partitions []PartitionCandidate
	// Ratio is the size of Parquet files to that of the text, measured on a sample; 0 where there is none.
	Ratio float64
}

// KeyCandidate is a column whose values are all different and never null.
type KeyCandidate struct {
	Column string
	Reason string
	// Proven says that all values were held against each other.
	Proven bool
}

// PartitionCandidate is a partition field with what it would lead to.
type PartitionCandidate struct {
	// Field is written as --partition takes it.
	Field      string
	Partitions int64
	Exact      bool
	// Rows and Bytes are predicted for a partition on average; the bytes are those of its Parquet files.
	Rows   int64
	Bytes  int64
	Reason string
}

// advise works out the advice for an inference over all records.
func (i *Inference) advise(ctx context.Context, b run.Budget) error {
	i.Advice = Advice{Keys: []KeyCandidate{}, Partitions: []PartitionCandidate{}}
	if !i.Whole || i.Records < 2 {
		return nil
	}
	var err error
	if i.Advice.Ratio, err = i.measure(ctx, b); err != nil {
		return err
	}
	i.Walk(func(path string, f *schema.Field, n *schema.Node, depth int) {
		if depth == 0 && !f.Type.Nested() {
			i.keyFrom(f, n)
			i.partitionsFrom(f, n)
		}
	})
	list := i.Advice.Partitions
	slices.SortStableFunc(list, func(a, b PartitionCandidate) int { return int(a.Partitions - b.Partitions) })
	i.Advice.Partitions = list[:min(len(list), mostPartitionAdvice)]
	return nil
}

// mostPartitionAdvice bounds how many partition fields are proposed.
const mostPartitionAdvice = 6

// keyFrom proposes a column as a key.
func (i *Inference) keyFrom(f *schema.Field, n *schema.Node) {
	switch f.Type.Kind {
	case schema.Float, schema.Double, schema.Boolean, schema.Date, schema.Time, schema.Binary:
		return
	}
	if n.Nulls() > 0 || n.Seen&schema.ClassToken != 0 || n.Evidence.Values() != i.Records || f.Notation.Format != "" &&
		f.Type.Kind != schema.String {
		return
	}
	unique, known := n.Unique()
	switch distinct, _ := n.DistinctValues(f.Notation.Nulls); {
	case unique:
		i.Advice.Keys = append(i.Advice.Keys, KeyCandidate{f.Name, "all values differ, none is null", true})
	case !known && float64(distinct) > 0.97*float64(i.Records):
		i.Advice.Keys = append(i.Advice.Keys, KeyCandidate{f.Name, "about as many different values as records, none null; too many " +
			"to be held against each other", false})
	}
}

// Columns with up to so many values are proposed as partition fields, and days up to mostDays before months are proposed besides.
const (
	mostValues = 500
	manyDays   = 62
)

// fewestRows is how many rows a partition has at least, on average, to be proposed.
const fewestRows = 5

// partitionsFrom proposes a column as a partition field, unless it is often null.
func (i *Inference) partitionsFrom(f *schema.Field, n *schema.Node) {
	if values := n.Present(f.Notation.Nulls); values < i.Records*19/20 {
		return
	}
	switch f.Type.Kind {
	case schema.Date, schema.Timestamp, schema.TimestampTz:
		days, exact := n.Days.Estimate()
		if days < 2 {
			return
		}
		i.propose("day("+f.Name+")", days, exact, "a time, on "+wording.Count(days, exact, "day", "days"))
		if months := monthsBetween(n.Range(f.Type.Kind, f.Notation.Nulls)); months > 1 && days > manyDays {
			i.propose("month("+f.Name+")", months, false, fmt.Sprintf("a time, over %d months", months))
		}
	case schema.String, schema.Boolean:
		values, exact := n.DistinctValues(f.Notation.Nulls)
		few := int64(10 + math.Sqrt(float64(i.Records)))
		if values > 1 && values <= min(mostValues, few) && n.Longest <= 64 {
			i.propose(f.Name, values, exact, wording.Count(values, exact, "value", "values"))
		}
	}
}

func (i *Inference) propose(field string, partitions int64, exact bool, reason string) {
	rows := i.Records / partitions
	if rows < fewestRows {
		return
	}
	bytes := int64(i.Advice.Ratio * float64(i.Observed.Bytes) / float64(partitions))
	i.Advice.Partitions = append(i.Advice.Partitions, PartitionCandidate{field, partitions, exact, rows, bytes, reason})
}

// monthsBetween counts the months from one date or timestamp in ISO form to another, both included; 0 where they are none.
func monthsBetween(smallest, largest string) int64 {
	var at [2]time.Time
	for i, text := range []string{smallest, largest} {
		var err error
		if at[i], err = time.Parse("2006-01", text[:min(len(text), len("2006-01"))]); err != nil {
			return 0
		}
	}
	return int64(at[1].Year()-at[0].Year())*12 + int64(at[1].Month()-at[0].Month()) + 1
}

// measure writes a sample as Parquet to nowhere and returns the size of that to the text's.
func (i *Inference) measure(ctx context.Context, b run.Budget) (float64, error) {
	s := i.Schema.Clone()
	if len(s.Fields) == 0 {
		return 0, nil
	}
	s.AssignIDs()
	SettleUnseen(&s)
	w, err := columnar.NewWriter(io.Discard, s, layout.DefaultOptions.Columnar)
	if err != nil {
		return 0, fmt.Errorf("measuring a sample: %w", err)
	}
	var text int64
	r := scan.Request{Target: scan.Target{Schema: s, Unknown: fit.UnknownKept, Style: schema.SafeNames},
		Sample: scan.NewSampleOf(scan.MeasuredSpot), Budget: b, Stage: run.Measuring}
	err = i.Source.Rows.Read(ctx, r, func(rows *scan.Rows) error {
		if rows.Batch == nil {
			return nil
		}
		text += int64(rows.Bytes)
		return w.Write(ctx, rows.Batch)
	})
	if err != nil || text == 0 {
		return 0, err
	}
	summary, err := w.Close()
	if err != nil {
		return 0, err
	}
	return float64(summary.Bytes) / float64(text), nil
}
