package decode

import (
	"bytes"
	"encoding/binary"
	"slices"
)

// spreadBits has for each byte its bits as bytes, the lowest first.
var spreadBits = func() (table [256]uint64) {
	for b := range table {
		for i := range 8 {
			table[b] |= uint64(b>>i&1) << (8 * i)
		}
	}
	return table
}()

// bits appends n bits as bytes; there are enough.
func bits(dst, data []byte, n int) []byte {
	dst = slices.Grow(dst, n+8)
	end := len(dst) + n
	for _, b := range data[:(n+7)/8] {
		dst = binary.LittleEndian.AppendUint64(dst, spreadBits[b])
	}
	return dst[:end]
}

// Booleans reads n booleans of a bit each behind dst, as bytes that are 0 or 1.
func Booleans(dst, data []byte, n int) ([]byte, error) {
	if len(data) < (n+7)/8 {
		return dst, damaged("%d booleans in %d bytes", n, len(data))
	}
	return bits(dst, data, n), nil
}

// RunBooleans reads n booleans in runs behind dst, behind the length of all, as bytes that are 0 or 1.
func RunBooleans(dst, data []byte, n int) ([]byte, error) {
	if len(data) < 4 || uint64(binary.LittleEndian.Uint32(data)) > uint64(len(data)-4) {
		return dst, damaged("runs of booleans are cut short")
	}
	data = data[4 : 4+binary.LittleEndian.Uint32(data)]
	for end := len(dst) + n; len(dst) < end; {
		head, size := binary.Uvarint(data)
		if size <= 0 || head>>1 == 0 || len(data) == size {
			return dst, damaged("a run of booleans is missing")
		}
		data = data[size:]
		if head&1 == 0 {
			count := int(min(head>>1, uint64(end-len(dst))))
			dst = append(dst, bytes.Repeat([]byte{data[0] & 1}, count)...)
			data = data[1:]
			continue
		}
		count := int(min(head>>1, uint64(n)) * 8)
		count = min(count, end-len(dst))
		if len(data) < (count+7)/8 {
			return dst, damaged("a run of %d booleans ends after %d bytes", count, len(data))
		}
		dst = bits(dst, data, count)
		data = data[min(int(min(head>>1, uint64(n))), len(data)):]
	}
	return dst, nil
}

// Bits packs bytes that are 0 or 1 into bits, the first lowest.
func Bits(values []byte) []byte {
	out := make([]byte, (len(values)+7)/8)
	at := 0
	for ; at+8 <= len(values); at += 8 {
		out[at>>3] = byte(binary.LittleEndian.Uint64(values[at:]) * 0x0102040810204080 >> 56)
	}
	for ; at < len(values); at++ {
		out[at>>3] |= values[at] << (at & 7)
	}
	return out
}

// Joined puts the bytes of n values of some size together that are written apart, the first bytes of all before the second ones.
func Joined(data []byte, n, size int) ([]byte, error) {
	if size <= 0 || len(data)/size < n {
		return nil, damaged("%d values of %d bytes in %d", n, size, len(data))
	}
	out := make([]byte, n*size)
	for b := range size {
		stream := data[b*n : (b+1)*n]
		for i, v := range stream {
			out[i*size+b] = v
		}
	}
	return out, nil
}

// Plain checks that there are n values of some size, and returns their bytes.
func Plain(data []byte, n, size int) ([]byte, error) {
	if len(data)/size < n {
		return nil, damaged("%d values of %d bytes in %d", n, size, len(data))
	}
	return data[:n*size], nil
}
