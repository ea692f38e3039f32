package fit

import "golang.org/x/sys/cpu"

// lookNumbersAVX2 is look four texts at a time, for n of them, of which there must be one.
//
//go:noescape
func lookNumbersAVX2(codes *uint32, values, scales *int64, n int, read uint64, ids *uint16, size, base, scale int64) (present uint64)

// look is lookOneByOne.
func (t *numberTable) look(codes []uint32, texts *shortTexts, read uint64) (present uint64) {
	if cpu.X86.HasAVX2 && len(codes) > 0 {
		return lookNumbersAVX2(&codes[0], &texts.values[0], &texts.scales[0], len(codes), read, &t.ids[0], int64(len(t.ids)), t.base,
			t.scale)
	}
	return t.lookOneByOne(codes, texts, read)
}
