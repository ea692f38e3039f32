package write

import (
	"context"
	"time"

	"trevak/internal/infer"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
)

// Handing is rows of a source that were handed to a sink as they would be written, and can be again.
type Handing struct {
	*Report
	Inputs []source.Input

	data   *infer.Data
	task   Task
	budget run.Budget
	out    Output
}

// NewHanding keeps what is needed to hand rows over again that an attempt handed over.
func NewHanding(d *infer.Data, t Task, b run.Budget, done Result) *Handing {
	return &Handing{done.Report, d.Inputs, d, t, b, done.Output}
}

// HandOver reads a source as a run would that writes files, and hands its rows to a sink, which is made anew where the schema turns out
// too narrow. Nothing is written, and records that cannot become rows are counted.
func HandOver(ctx context.Context, t Task, b run.Budget, receive func(*Output, []source.Input) (Sink, error)) (*Handing, error) {
	all := Tolerance{Percent: 100, Share: true}
	t.Tolerate, t.Misfits = all, all
	data, err := infer.Survey(ctx, &t.Reading, b)
	if err != nil {
		return nil, err
	}
	done, err := First(ctx, data, t, b, time.Now(), "", func(s schema.Schema) (Prepared, error) {
		s.AssignIDs()
		out := Output{Schema: s, Dry: true, Sink: func(of *Output) (Sink, error) { return receive(of, data.Inputs) }}
		return Prepared{Output: out, Undo: func() {}}, nil
	})
	return NewHanding(data, t, b, done), err
}

// Again hands the rows over once more.
func (h *Handing) Again(ctx context.Context, sink Sink) error {
	out := h.out
	out.Sink = func(*Output) (Sink, error) { return sink, nil }
	_, _, err := Attempt(ctx, h.data, h.task, h.budget, &out, time.Now(), h.Table)
	return err
}
