package encode

import (
	"encoding/binary"
	"unsafe"
)

// littleEndian says that values lie in memory as they are written.
var littleEndian = binary.NativeEndian.Uint16([]byte{1, 0}) == 1

// Plain appends values of 4 or 8 bytes as they are, little-endian.
func Plain[T integer](dst []byte, values []T) []byte {
	size := int(unsafe.Sizeof(*new(T)))
	if littleEndian && len(values) > 0 {
		return append(dst, unsafe.Slice((*byte)(unsafe.Pointer(&values[0])), len(values)*size)...)
	}
	for _, v := range values {
		if size == 4 {
			dst = binary.LittleEndian.AppendUint32(dst, uint32(v))
		} else {
			dst = binary.LittleEndian.AppendUint64(dst, uint64(v))
		}
	}
	return dst
}

// PlainText appends one byte string, its length before it.
func PlainText(dst, value []byte) []byte {
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(value)))
	return append(dst, value...)
}
