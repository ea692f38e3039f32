package decode

import (
	"encoding/binary"
)

// Delta reads numbers that are written as differences behind dst, and returns the bytes behind them. There must be most numbers
// at most. Numbers of 32 bits wrap where theirs do, which is the caller's to apply (Parquet specification, "Delta Encoding").
func Delta(dst []int64, data []byte, most int) (out []int64, rest []byte, err error) {
	var head [3]uint64
	for i := range head {
		v, size := binary.Uvarint(data)
		if size <= 0 {
			return dst, nil, damaged("the head of numbers is cut short")
		}
		head[i], data = v, data[size:]
	}
	block, minis, total := head[0], head[1], head[2]
	value, size := binary.Varint(data)
	if size <= 0 {
		return dst, nil, damaged("there is no first number")
	}
	data = data[size:]
	if minis == 0 || minis > 512 || block == 0 || block > 1<<20 || block%minis != 0 || block/minis%8 != 0 || total > uint64(most) {
		return dst, nil, damaged("%d numbers in blocks of %d and parts of %d", total, block, minis)
	}
	if total == 0 {
		return dst, data, nil
	}
	end := len(dst) + int(total)
	if cap(dst) < end {
		dst = append(make([]int64, 0, end), dst...)
	}
	dst = append(dst, value)
	each := int(block / minis)
	for len(dst) < end {
		least, size := binary.Varint(data)
		if size <= 0 || len(data) < size+int(minis) {
			return dst, nil, damaged("a block of numbers is cut short")
		}
		widths := data[size : size+int(minis)]
		data = data[size+int(minis):]
		for _, width := range widths {
			if len(dst) == end {
				break
			}
			count := min(each, end-len(dst))
			bytes := each * int(width) / 8
			if width > 64 || len(data) < (count*int(width)+7)/8 {
				return dst, nil, damaged("numbers of %d bits are cut short", width)
			}
			packed := data[:min(bytes, len(data))]
			part := dst[len(dst) : len(dst)+count]
			unpackLong(part, packed, int(width))
			for i, d := range part {
				value += d + least
				part[i] = value
			}
			dst = dst[:len(dst)+count]
			data = data[len(packed):]
		}
	}
	return dst, data, nil
}

// unpackLong reads numbers of up to 64 bits, the lowest first, of which there are enough.
func unpackLong(dst []int64, packed []byte, width int) {
	if width == 0 {
		clear(dst)
		return
	}
	mask := uint64(1)<<width - 1
	if width == 64 {
		mask = ^uint64(0)
	}
	bit, i := 0, 0
	if width <= 56 {
		for ; i < len(dst) && bit>>3+8 <= len(packed); i++ {
			dst[i] = int64(binary.LittleEndian.Uint64(packed[bit>>3:]) >> (bit & 7) & mask)
			bit += width
		}
	}
	for ; i < len(dst); i++ {
		var v uint64
		for got := 0; got < width; {
			at := bit + got
			v |= uint64(packed[at>>3]>>(at&7)) << got
			got += 8 - at&7
		}
		dst[i] = int64(v & mask)
		bit += width
	}
}
