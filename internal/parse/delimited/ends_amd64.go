package delimited

import (
	"golang.org/x/sys/cpu"

	"trevak/internal/parse/bytemask"
)

// endsAVX2 is addGo for so many words of data, of which there must be one.
//
//go:noescape
func endsAVX2(e *ends, data *byte, words int, delimiter, quote byte) (odd uint64)

var hasCarryless = cpu.X86.HasAVX2 && cpu.X86.HasAVX && cpu.X86.HasPCLMULQDQ && cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// add takes text, and returns bits where quotes open otherwise than at the beginning of a field or doubled. More text can
// follow whole words only.
func (e *ends) add(data []byte, delimiter, quote byte) (odd uint64) {
	if words := len(data) / bytemask.Word; hasCarryless && words > 0 {
		if odd = endsAVX2(e, &data[0], words, delimiter, quote); odd != 0 {
			return odd
		}
		data = data[words*bytemask.Word:]
	}
	return e.addMasks(data, delimiter, quote)
}
