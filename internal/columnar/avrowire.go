package columnar

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"trevak/internal/magic"
)

// avroRow is the encoding of a row (Avro specification, "Binary Encoding"). Its numbers of variable length are those of encoding/binary.
type avroRow struct{ b []byte }

func (w *avroRow) long(v int64) { w.b = binary.AppendVarint(w.b, v) }

func (w *avroRow) bool(v bool) {
	one := byte(0)
	if v {
		one = 1
	}
	w.b = append(w.b, one)
}

func (w *avroRow) float(v float32) { w.b = binary.LittleEndian.AppendUint32(w.b, math.Float32bits(v)) }

func (w *avroRow) double(v float64) { w.b = binary.LittleEndian.AppendUint64(w.b, math.Float64bits(v)) }

func (w *avroRow) bytes(v []byte) {
	w.long(int64(len(v)))
	w.b = append(w.b, v...)
}

func (w *avroRow) text(v string) {
	w.long(int64(len(v)))
	w.b = append(w.b, v...)
}

// avroReader reads single values of a block. After the first error, which err has, it reads zeros.
type avroReader struct {
	left []byte
	err  error
}

func (r *avroReader) reset(block []byte) { r.left, r.err = block, nil }

// fail ends the reading.
func (r *avroReader) fail(format string, values ...any) {
	if r.err == nil {
		r.err, r.left = fmt.Errorf(format, values...), nil
	}
}

// take returns the next n bytes, of the memory of the block.
func (r *avroReader) take(n int64) []byte {
	if n < 0 || n > int64(len(r.left)) {
		r.fail("%d bytes are said to follow, but there are %d", n, len(r.left))
		return nil
	}
	out := r.left[:n]
	r.left = r.left[n:]
	return out
}

func (r *avroReader) long() int64 {
	v, n := binary.Varint(r.left)
	if n <= 0 {
		r.fail("a number has no end")
		return 0
	}
	r.left = r.left[n:]
	return v
}

func (r *avroReader) int() int32 {
	v := r.long()
	if v < math.MinInt32 || v > math.MaxInt32 {
		r.fail("%d is no int", v)
		return 0
	}
	return int32(v)
}

func (r *avroReader) bool() bool {
	b := r.take(1)
	if len(b) == 1 && b[0] > 1 {
		r.fail("%d is no boolean", b[0])
	}
	return len(b) == 1 && b[0] == 1
}

func (r *avroReader) float() float32 {
	if b := r.take(4); b != nil {
		return math.Float32frombits(binary.LittleEndian.Uint32(b))
	}
	return 0
}

func (r *avroReader) double() float64 {
	if b := r.take(8); b != nil {
		return math.Float64frombits(binary.LittleEndian.Uint64(b))
	}
	return 0
}

// bytes returns bytes or a text, of the memory of the block.
func (r *avroReader) bytes() []byte { return r.take(r.long()) }

// elements returns how many elements the next block of a list or map has, 0 after its last.
func (r *avroReader) elements() int64 {
	count := r.long()
	if count < 0 {
		// The block's size follows, by which it could be passed over.
		r.long()
		count = -count
	}
	return count
}

// avroHeader is the head of an object container file (Avro specification, "Object Container Files").
type avroHeader struct {
	meta map[string][]byte
	sync [16]byte
}

// mostAvroMeta bounds how large an entry of a header may be.
const mostAvroMeta = 64 << 20

// readAvroHeader reads what precedes the first block.
func readAvroHeader(r *bufio.Reader) (h avroHeader, err error) {
	h.meta = map[string][]byte{}
	damaged := errors.New("its header is damaged")
	mark := make([]byte, len(magic.Avro))
	if _, err := io.ReadFull(r, mark); err != nil || string(mark) != magic.Avro {
		return h, damaged
	}
	for {
		count, err := binary.ReadVarint(r)
		if err == nil && count < 0 {
			_, err = binary.ReadVarint(r)
			count = -count
		}
		if err != nil || count < 0 {
			return h, damaged
		}
		if count == 0 {
			break
		}
		for ; count > 0; count-- {
			key, err := readAvroBytes(r)
			if err != nil {
				return h, damaged
			}
			if h.meta[string(key)], err = readAvroBytes(r); err != nil {
				return h, damaged
			}
		}
	}
	if _, err := io.ReadFull(r, h.sync[:]); err != nil {
		return h, damaged
	}
	return h, nil
}

func readAvroBytes(r *bufio.Reader) ([]byte, error) {
	n, err := binary.ReadVarint(r)
	if err != nil || n < 0 || n > mostAvroMeta {
		return nil, errors.Join(err, errors.New("no size"))
	}
	// The size is believed only as far as there are bytes.
	out, err := io.ReadAll(io.LimitReader(r, n))
	if err == nil && int64(len(out)) < n {
		err = io.ErrUnexpectedEOF
	}
	return out, err
}
