package lexical

import "golang.org/x/sys/cpu"

// numbersAVX2 is Numbers for groups of four texts.
//
//go:noescape
func numbersAVX2(values, scales *[Together]int64, keys, sizes *[Together]uint64, groups int) (read uint64)

func numbers(values, scales *[Together]int64, keys, sizes *[Together]uint64, n int) (read uint64) {
	if cpu.X86.HasAVX2 {
		return numbersAVX2(values, scales, keys, sizes, (n+3)/4)
	}
	return numbersOneByOne(values, scales, keys, sizes, n)
}
