//go:build !amd64

package lexical

func numbers(values, scales *[Together]int64, keys, sizes *[Together]uint64, n int) (read uint64) {
	return numbersOneByOne(values, scales, keys, sizes, n)
}
