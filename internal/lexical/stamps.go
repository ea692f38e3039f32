package lexical

import "sync"

// Place is where a text lies within others: its offset and its size in bytes.
type Place struct{ Start, Size uint32 }

// Timestamps reads up to Together timestamps of the commonest forms, YYYY-MM-DDTHH:MM:SS and the same with a space, which a Z
// follows where they are zoned. They are the first n of places in data. Bit i of read is set where text i was read: values[i]
// then is what Timestamp makes of it. Timestamps of other forms and of years far from now are not read, and those at the very
// end of data need not be; their values are 0. What stands behind the first n may be overwritten.
func Timestamps(values *[Together]int64, data []byte, places *[Together]Place, n int, zoned bool) (read uint64) {
	if n = min(n, Together); n <= 0 {
		return 0
	}
	return timestamps(values, data, places, n, zoned)
}

// timestampsOneByOne is Timestamps for any processor.
func timestampsOneByOne(values *[Together]int64, data []byte, places *[Together]Place, n int, zoned bool) (read uint64) {
	size := uint32(19)
	if zoned {
		size++
	}
	for i, p := range places[:n] {
		values[i] = 0
		if p.Size != size || zoned && data[p.Start+19] != 'Z' {
			continue
		}
		if v, ok := plainTimestamp((*[19]byte)(data[p.Start:])); ok {
			values[i] = v
			read |= 1 << i
		}
	}
	return read
}

// The years whose months are at hand.
const (
	firstYear = 1900
	years     = 200
)

// monthStarts has, for each month of those years, the day before it in days since 1970-01-01, with the number of its days in
// the lowest five bits.
var monthStarts = sync.OnceValue(func() *[12 * years]int32 {
	var out [12 * years]int32
	for i := range out {
		year, month := firstYear+i/12, i%12+1
		out[i] = (daysFromCivil(year, month, 1)-1)<<5 | int32(lastDay(year, month))
	}
	return &out
})
