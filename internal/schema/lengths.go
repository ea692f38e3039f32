package schema

import "math/bits"

// Lengths counts how long the arrays of a column are. The zero value is ready.
type Lengths struct {
	few      [exactLengths]int64 // by length
	many     [64]int64           // by the number of bits of the length
	arrays   int64
	min, max int
	rows     int64
}

// exactLengths is up to which length arrays are counted one by one; longer ones are by their powers of two.
const exactLengths = 256

// add counts an array of n elements.
func (l *Lengths) add(n int) {
	if l.arrays == 0 || n < l.min {
		l.min = n
	}
	l.max = max(l.max, n)
	l.arrays++
	l.rows += int64(max(1, n))
	if n < exactLengths {
		l.few[n]++
	} else {
		l.many[bits.Len(uint(n))-1]++
	}
}

// merge adds what was counted elsewhere.
func (l *Lengths) merge(o *Lengths) {
	if o.arrays == 0 {
		return
	}
	if l.arrays == 0 || o.min < l.min {
		l.min = o.min
	}
	l.max = max(l.max, o.max)
	l.arrays += o.arrays
	l.rows += o.rows
	for i, n := range o.few {
		l.few[i] += n
	}
	for i, n := range o.many {
		l.many[i] += n
	}
}

// ListLengths returns how long the lists of a column are that holds single values besides, which are lists of one then. It is
// nil without any list.
func (n *Node) ListLengths() *Lengths {
	if n.Lengths == nil {
		return nil
	}
	all := *n.Lengths
	if single := n.Evidence.Values() - n.Counts[ClassArray.Index()]; single > 0 {
		if all.arrays == 0 || all.min > 1 {
			all.min = 1
		}
		all.max = max(all.max, 1)
		all.arrays, all.rows, all.few[1] = all.arrays+single, all.rows+single, all.few[1]+single
	}
	return &all
}

// Range returns the smallest and the largest length.
func (l *Lengths) Range() (least, most int) { return l.min, l.max }

// Arrays returns how many arrays there are.
func (l *Lengths) Arrays() int64 { return l.arrays }

// Rows returns how many rows the elements make, where an empty array makes one.
func (l *Lengths) Rows() int64 { return l.rows }

// Median returns a length that half of the arrays reach; exact is false where it is a power of two below that.
func (l *Lengths) Median() (n int, exact bool) {
	left := (l.arrays + 1) / 2
	for i, count := range l.few {
		if left -= count; left <= 0 {
			return i, true
		}
	}
	for i, count := range l.many {
		if left -= count; left <= 0 {
			return min(max(1<<i, l.min), l.max), l.min == l.max
		}
	}
	return l.max, true
}
