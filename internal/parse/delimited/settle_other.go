//go:build !amd64

package delimited

// settle tells what is outside quotes in the words of m from i on up to words, where a field begins at the bit from. It returns
// for how many words that is settled: all of them, or up to where quotes stand otherwise than around a whole field or doubled
// in it; then nothing is set from there on, and regular is false.
func (o *outside) settle(m *masks, i, words, from int) (settled int, regular bool) {
	return o.settleGo(m, i, words, from)
}
