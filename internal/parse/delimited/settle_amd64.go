package delimited

import "golang.org/x/sys/cpu"

// settleAVX2 takes the words from i on up to words, of which there must be one; of the first only the bits of within are looked
// at, and a field begins at begins. It returns which word comes next, and bits where quotes stand otherwise in the one before
// that, if they do.
//
//go:noescape
func settleAVX2(o *outside, m *masks, i, words int, within, begins uint64) (next int, odd uint64)

var hasAVX2 = cpu.X86.HasAVX2 && cpu.X86.HasPCLMULQDQ && cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// settle tells what is outside quotes in the words of m from i on up to words, where a field begins at the bit from. It returns
// for how many words that is settled: all of them, or up to where quotes stand otherwise than around a whole field or doubled
// in it; then nothing is set from there on, and regular is false.
func (o *outside) settle(m *masks, i, words, from int) (settled int, regular bool) {
	if !hasAVX2 || i >= words {
		return o.settleGo(m, i, words, from)
	}
	next, odd := settleAVX2(o, m, i, words, ^uint64(0)<<from, 1<<from)
	if odd == 0 {
		return words - i, true
	}
	o.cutOff(next-1, odd)
	return next - i, false
}
