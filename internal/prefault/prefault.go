// Package prefault makes tables: given how long one is to be, it hands out one whose memory is at hand.
package prefault

// Table returns n zero values that will be looked up before they are set, in no order, as those of a hash table are. It writes
// to them: memory that a program reads first and then writes is mapped twice by the system, and for the second time all
// processors are interrupted, each time for a few thousand bytes.
func Table[T any](n int) []T {
	t := make([]T, n)
	clear(t)
	return t
}
