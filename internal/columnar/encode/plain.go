package encode

import "encoding/binary"

// Plain appends values of 4 or 8 bytes as they are, little-endian.
func Plain[T integer](dst []byte, values []T) []byte {
	if _, narrow := any(*new(T)).(int32); narrow {
		for _, v := range values {
			dst = binary.LittleEndian.AppendUint32(dst, uint32(v))
		}
		return dst
	}
	for _, v := range values {
		dst = binary.LittleEndian.AppendUint64(dst, uint64(v))
	}
	return dst
}

// PlainText appends one byte string, its length before it.
func PlainText(dst, value []byte) []byte {
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(value)))
	return append(dst, value...)
}
