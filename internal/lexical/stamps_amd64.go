package lexical

import "golang.org/x/sys/cpu"

// timestampsAVX2 is Timestamps for n texts, of which there must be one. The byte between date and time is separator. Texts that
// begin behind last are not read; size is that of the others, whose byte 19, once or is added to it, must be mark.
//
//go:noescape
func timestampsAVX2(values *[Together]int64, data *byte, places *[Together]Place, n int, months *[12 * years]int32, separator, size, last,
	or, mark int) (read uint64)

func timestamps(values *[Together]int64, data []byte, places *[Together]Place, n int, zoned bool) (read uint64) {
	const longest = 20
	if !cpu.X86.HasAVX2 || len(data) < longest {
		return timestampsOneByOne(values, data, places, n, zoned)
	}
	size, or, mark := 19, 0xff, 0xff
	if zoned {
		size, or, mark = longest, 0, 'Z'
	}
	last := len(data) - longest
	// Those of one column are separated alike.
	separator := 'T'
	for _, p := range places[:n] {
		if int(p.Size) == size && int(p.Start) <= last {
			separator = rune(data[p.Start+10])
			break
		}
	}
	if separator != 'T' {
		separator = ' '
	}
	return timestampsAVX2(values, &data[0], places, n, monthStarts(), int(separator), size, last, or, mark)
}
