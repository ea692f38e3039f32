package decode

import (
	"encoding/binary"
	"slices"
)

// Texts are texts one behind the other. Text i goes from Ends[i-1], 0 for the first, to Ends[i].
type Texts struct {
	Ends  []int32
	Bytes []byte
}

// Len returns how many there are.
func (t *Texts) Len() int { return len(t.Ends) }

// At returns a text.
func (t *Texts) At(i int) []byte {
	from := int32(0)
	if i > 0 {
		from = t.Ends[i-1]
	}
	return t.Bytes[from:t.Ends[i]]
}

// Reset forgets all texts.
func (t *Texts) Reset() { t.Ends, t.Bytes = t.Ends[:0], t.Bytes[:0] }

// Add adds a text.
func (t *Texts) Add(text []byte) {
	t.Bytes = append(t.Bytes, text...)
	t.Ends = append(t.Ends, int32(len(t.Bytes)))
}

// grow makes room for n texts of so many bytes together.
func (t *Texts) grow(n, bytes int) {
	t.Ends, t.Bytes = slices.Grow(t.Ends, n), slices.Grow(t.Bytes, max(0, bytes))
}

// PlainTexts reads n texts with their lengths before them.
func PlainTexts(dst *Texts, data []byte, n int) error {
	if len(data)/4 < n {
		return damaged("%d texts in %d bytes", n, len(data))
	}
	dst.grow(n, len(data)-4*n)
	for range n {
		if len(data) < 4 {
			return damaged("the length of a text is cut short")
		}
		size := binary.LittleEndian.Uint32(data)
		if uint64(size) > uint64(len(data)-4) {
			return damaged("a text of %d bytes in %d", size, len(data)-4)
		}
		dst.Add(data[4 : 4+size])
		data = data[4+size:]
	}
	return nil
}

// FixedTexts reads n texts of one length.
func FixedTexts(dst *Texts, data []byte, n, size int) error {
	if size <= 0 || len(data)/size < n {
		return damaged("%d texts of %d bytes in %d", n, size, len(data))
	}
	for i := range n {
		dst.Add(data[i*size : (i+1)*size])
	}
	return nil
}

// DeltaLengthTexts reads n texts behind their lengths.
func DeltaLengthTexts(dst *Texts, data []byte, n int) error {
	lengths, rest, err := Delta(nil, data, n)
	if err != nil {
		return err
	}
	dst.grow(n, len(rest))
	if len(lengths) != n {
		return damaged("%d texts where %d are expected", len(lengths), n)
	}
	for _, size := range lengths {
		if size < 0 || size > int64(len(rest)) {
			return damaged("a text of %d bytes in %d", size, len(rest))
		}
		dst.Add(rest[:size])
		rest = rest[size:]
	}
	return nil
}

// DeltaTexts reads n texts of which each begins like the one before it.
func DeltaTexts(dst *Texts, data []byte, n int) error {
	shared, rest, err := Delta(nil, data, n)
	if err != nil {
		return err
	}
	lengths, rest, err := Delta(nil, rest, n)
	if err != nil {
		return err
	}
	if len(shared) != n || len(lengths) != n {
		return damaged("%d texts where %d are expected", min(len(shared), len(lengths)), n)
	}
	dst.grow(n, len(rest))
	from := len(dst.Bytes) // where the text before begins
	for i, size := range shared {
		before := int64(len(dst.Bytes) - from)
		if i == 0 {
			before = 0
		}
		own := lengths[i]
		if size < 0 || size > before || own < 0 || own > int64(len(rest)) {
			return damaged("a text shares %d bytes with one of %d, and has %d of %d more", size, before, own, len(rest))
		}
		begin := len(dst.Bytes)
		dst.Bytes = append(append(dst.Bytes, dst.Bytes[from:from+int(size)]...), rest[:own]...)
		dst.Ends = append(dst.Ends, int32(len(dst.Bytes)))
		from, rest = begin, rest[own:]
	}
	return nil
}

// AddAll adds the texts of another list from one to before another.
func (t *Texts) AddAll(o *Texts, from, to int) {
	if from == to {
		return
	}
	start := int32(0)
	if from > 0 {
		start = o.Ends[from-1]
	}
	shift := int32(len(t.Bytes)) - start
	t.Bytes = append(t.Bytes, o.Bytes[start:o.Ends[to-1]]...)
	for _, end := range o.Ends[from:to] {
		t.Ends = append(t.Ends, end+shift)
	}
}
