package fit

import "trevak/internal/parse/cells"

// count returns how many values a column has, with those that are not read yet.
func (c *column) count() int { return c.n + len(c.spans) }

// nullLater appends a null that is read with the other values of an outline.
func (c *column) nullLater() {
	switch c.outlined {
	case outlinedStruct:
		c.setValid(false)
		for _, child := range c.children {
			child.nullLater()
		}
	case outlinedList, outlinedMap:
		c.setValid(false)
		c.offsets = append(c.offsets, int32(c.element.count()))
	default:
		if c.field.Skip {
			c.null()
		} else {
			c.spans = append(c.spans, cells.Span{})
		}
	}
}

// lastIsNull reports whether the last value is null, be it read or not.
func (c *column) lastIsNull() bool {
	if n := len(c.spans); n > 0 {
		return c.spans[n-1] == cells.Span{}
	}
	return c.n > 0 && c.isNull(c.n-1)
}

// retract takes back every value after the first n, of which none behind those that were read before is read yet.
func (c *column) retract(n int) {
	switch c.outlined {
	case outlinedStruct, outlinedList, outlinedMap:
		if c.n > n {
			c.trimBits(n)
			c.n = n
		}
	default:
		if c.field.Skip {
			c.truncate(n)
		} else {
			c.spans = c.spans[:n-c.n]
		}
		return
	}
	for _, child := range c.children {
		child.retract(n)
	}
	if c.element != nil {
		c.offsets = c.offsets[:n+1]
		n = int(c.offsets[n])
		c.element.retract(n)
		if c.key != nil {
			c.key.retract(n)
		}
	}
}
