package fit

// columnPool keeps columns of batches that are done with, for batches to come. A worker's own, it holds no more than are ever
// on their way.
type columnPool chan []*column

const mostSpareColumns = 8

// get returns columns without values, nil when there are none.
func (p columnPool) get() []*column {
	select {
	case columns := <-p:
		for _, c := range columns {
			c.reset()
		}
		return columns
	default:
		return nil
	}
}

// Done gives the memory of the batch back to the worker that made it. Neither the batch nor anything that shares its columns
// may be used afterwards. It need not be called, and may be called from anywhere.
func (r *Result) Done() {
	if r.columns == nil {
		return
	}
	select {
	case r.pool <- r.columns:
	default:
	}
	r.Batch, r.columns = nil, nil
}

// Follow makes Done give back the memory of another batch too, which this one was made of and may share.
func (r *Result) Follow(of *Result) { r.pool, r.columns, of.columns = of.pool, of.columns, nil }

// reset takes back every value, and what was counted of them.
func (c *column) reset() {
	c.nulls, c.valid = 0, nil
	switch {
	case c.words != nil:
		c.codes = c.codes[:0]
	case c.element == nil && c.children == nil:
		c.truncate(0)
	}
	c.n, c.tokens, c.longest, c.cut, c.stamp, c.objects = 0, 0, 0, false, 0, 0
	if c.element != nil {
		c.offsets = c.offsets[:1]
		c.element.reset()
	}
	if c.key != nil {
		c.key.reset()
	}
	for _, child := range c.children {
		child.reset()
	}
}
