//go:build !amd64

package lexical

func timestamps(values *[Together]int64, data []byte, places *[Together]Place, n int, zoned bool) (read uint64) {
	return timestampsOneByOne(values, data, places, n, zoned)
}
