package reconcile

import (
	"trevak/internal/mask"
	"trevak/internal/prove"
	"trevak/internal/write"
)

// masked is a result and an error without the values of columns that are not told.
func masked(m mask.Mask, r *Result, err error) (*Result, error) {
	if !m.Any() {
		return r, err
	}
	if r == nil {
		_, err = write.Masked(m, nil, err)
		return nil, err
	}
	facts := func(f *prove.Facts, hide bool) {
		if hide && f.Smallest != "" {
			f.Smallest, f.Largest = mask.Shown, mask.Shown
		}
		if hide && f.Sum != "" {
			f.Sum = mask.Shown
		}
	}
	for i := range r.Columns {
		c := &r.Columns[i]
		hide := m.Hides(c.Name)
		facts(&c.Source, hide)
		facts(&c.There, hide)
	}
	cell := func(c *prove.Cell, column string) {
		if !c.Null && m.Hides(column) {
			c.Text = mask.Shown
		}
	}
	for i := range r.Examples {
		for j := range r.Examples[i].Key {
			cell(&r.Examples[i].Key[j], r.Examples[i].Key[j].Column)
		}
		for j := range r.Examples[i].Cells {
			p := &r.Examples[i].Cells[j]
			cell(&p.Left, p.Column)
			cell(&p.Right, p.Column)
		}
	}
	r.Source, err = write.Masked(m, r.Source, err)
	return r, err
}
