package fit

import (
	"trevak/internal/parse/delimited"
)

// opened appends what is in a text of JSON to a column, and reports whether it is one. The walk goes on behind the text.
func (w *walker) opened(c *column, text []byte) bool {
	outer := w.Scanner
	defer func() {
		if w.Scanner = outer; w.problem != nil {
			w.Fail("stopped")
		}
	}()
	w.Reset(text)
	w.Skip()
	if w.End(); w.Err() != nil {
		return false
	}
	rows, misfits := c.n, len(w.misfits)
	w.Reset(text)
	w.inside(c)
	if w.Err() != nil && w.problem == nil {
		// A key that occurs twice, or what lies too deep.
		c.truncate(rows)
		w.misfits = w.misfits[:misfits]
		return false
	}
	return true
}

// openColumn fills a column of texts that are JSON with what is in them.
func (d *Delimited) openColumn(c *column, r *delimited.Records, field, from, to int) {
	w := walker{folded: map[string]string{}}
	for row := from; row < to; row++ {
		text, quoted := r.Value(row, field, &d.scratch)
		if len(text) == 0 && !quoted || c.statedNull(text) {
			c.null()
			continue
		}
		w.row = row
		w.start, w.end = r.Span(row)
		w.problem, w.trail, w.misfits = nil, w.trail[:0], w.misfits[:0]
		known := c.n
		fits := w.opened(c, text)
		if w.problem != nil {
			c.truncate(known)
			c.null()
			d.refuse(row, *w.problem)
			if w.problem.Widens {
				d.widens = true
				return
			}
			continue
		}
		d.out.Misfits = append(d.out.Misfits, w.misfits...)
		if fits {
			continue
		}
		if c.required() {
			d.refuse(row, unfit(w.start, w.end, c, text, false))
		} else {
			d.out.Misfits = append(d.out.Misfits, Misfit{Row: row, Start: w.start, Column: c.field.Name, Of: c.field.Name, Known: true,
				Text: string(text)})
		}
		c.null()
	}
}
