package orc

import (
	"errors"
	"fmt"
	"io"

	"google.golang.org/protobuf/encoding/protowire"
)

// damage is what decoders panic with when a stream is not what it should be; File.Batches makes an error of it.
type damage struct{ error }

// input is one stream that is being read, chunk by chunk. A column without the stream has none of its values.
type input struct {
	name   string
	packed *io.SectionReader
	unpack *unpacker
	raw    []byte // what is left of the open chunk
	memory []byte
	buffer []byte
}

// fail gives up reading.
func (in *input) fail(err error) {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = fmt.Errorf("it ends too soon")
	}
	panic(damage{fmt.Errorf("%s: %w", in.name, err)})
}

// fill opens the next chunk.
func (in *input) fill() {
	const piece = 64 << 10
	left := in.packed.Size() - in.offset()
	if left == 0 {
		in.fail(io.EOF)
	}
	if in.unpack.codec == uncompressed {
		in.raw = in.take(min(left, piece))
		return
	}
	head := in.take(min(left, chunkHeader))
	if len(head) < chunkHeader {
		in.fail(io.EOF)
	}
	header := int64(head[0]) | int64(head[1])<<8 | int64(head[2])<<16
	if header>>1 > left-chunkHeader {
		in.fail(io.EOF)
	}
	part := in.take(header >> 1)
	if header&1 == 1 {
		in.raw = part
	} else {
		raw, err := in.unpack.chunk(in.memory, part)
		if err != nil {
			in.fail(err)
		}
		in.raw, in.memory = raw, raw
	}
}

// offset is how many stored bytes were read.
func (in *input) offset() int64 {
	at, err := in.packed.Seek(0, io.SeekCurrent)
	if err != nil {
		in.fail(err)
	}
	return at
}

// take reads so many stored bytes, which stay until the next are read.
func (in *input) take(n int64) []byte {
	if int64(cap(in.buffer)) < n {
		in.buffer = make([]byte, n)
	}
	if _, err := io.ReadFull(in.packed, in.buffer[:n]); err != nil {
		in.fail(err)
	}
	return in.buffer[:n]
}

// byte returns the next byte.
func (in *input) byte() byte {
	for len(in.raw) == 0 {
		in.fill()
	}
	b := in.raw[0]
	in.raw = in.raw[1:]
	return b
}

// read appends the next n bytes to dst.
func (in *input) read(dst []byte, n int) []byte {
	for n > 0 {
		for len(in.raw) == 0 {
			in.fill()
		}
		part := min(n, len(in.raw))
		dst = append(dst, in.raw[:part]...)
		in.raw, n = in.raw[part:], n-part
	}
	return dst
}

// uvarint reads a number of up to 64 bits.
func (in *input) uvarint() uint64 {
	var v uint64
	for shift := 0; shift < 70; shift += 7 {
		b := in.byte()
		v |= uint64(b&0x7f) << shift
		if b < 0x80 {
			return v
		}
	}
	panic(damage{fmt.Errorf("%s: a number has more than 64 bits", in.name)})
}

// bigEndian reads a number of up to 8 bytes.
func (in *input) bigEndian(n int) uint64 {
	var v uint64
	for range n {
		v = v<<8 | uint64(in.byte())
	}
	return v
}

// byteInput reads bytes in runs.
type byteInput struct {
	*input
	left   int
	value  byte
	single bool // the bytes that are left stand for themselves
}

func (b *byteInput) next() byte {
	if b.left == 0 {
		if n := int8(b.byte()); n >= 0 {
			b.left, b.single, b.value = int(n)+3, false, b.byte()
		} else {
			b.left, b.single = -int(n), true
		}
	}
	b.left--
	if b.single {
		return b.byte()
	}
	return b.value
}

// bitInput reads booleans.
type bitInput struct {
	byteInput
	bits byte
	have int
}

func (b *bitInput) next() bool {
	if b.have == 0 {
		b.bits, b.have = b.byteInput.next(), 8
	}
	b.have--
	return b.bits>>b.have&1 == 1
}

// integerInput reads integers in runs of either version.
type integerInput struct {
	*input
	signed bool
	second bool // version 2
	run    []int64
	at     int
}

// next returns one integer.
func (in *integerInput) next() int64 {
	if in.at == len(in.run) {
		in.run, in.at = in.run[:0], 0
		if in.second {
			in.decode()
		} else {
			in.decodeFirst()
		}
	}
	in.at++
	return in.run[in.at-1]
}

// value undoes the zigzag of signed integers.
func (in *integerInput) value(u uint64) int64 {
	if in.signed {
		return protowire.DecodeZigZag(u)
	}
	return int64(u)
}

// decodeFirst reads a run of version 1: three or more integers with the same step between them, or up to 128 of any kind.
func (in *integerInput) decodeFirst() {
	n := int8(in.byte())
	if n < 0 {
		for range -int(n) {
			in.run = append(in.run, in.value(in.uvarint()))
		}
		return
	}
	step := int64(int8(in.byte()))
	first := in.value(in.uvarint())
	for i := range int64(n) + 3 {
		in.run = append(in.run, first+i*step)
	}
}

// decode reads a run of version 2.
func (in *integerInput) decode() {
	head := in.byte()
	if head>>6 == shortRepeat {
		v := in.value(in.bigEndian(int(head>>3&7) + 1))
		for range int(head&7) + 3 {
			in.run = append(in.run, v)
		}
		return
	}
	code := int(head >> 1 & 31)
	n := int(head&1)<<8 | int(in.byte()) + 1
	switch head >> 6 {
	case direct:
		in.unpackBits(n, codeWidth(code))
		for i, v := range in.run {
			in.run[i] = in.value(uint64(v))
		}
	case patchedBase:
		in.patched(n, codeWidth(code))
	case delta:
		in.deltas(n, code)
	}
}

// unpackBits reads n values of a width, the highest bit first; what is left of the last byte is padding.
func (in *integerInput) unpackBits(n, width int) {
	var have int
	var word byte
	for range n {
		var v uint64
		for left := width; left > 0; {
			if have == 0 {
				word, have = in.byte(), 8
			}
			part := min(left, have)
			v = v<<part | uint64(word>>(have-part)&(1<<part-1))
			have, left = have-part, left-part
		}
		in.run = append(in.run, int64(v))
	}
}

// deltas reads a first value, a first step, and the sizes of the other steps, all in the first one's direction; without a width
// all steps are the same.
func (in *integerInput) deltas(n, code int) {
	v := in.value(in.uvarint())
	step := protowire.DecodeZigZag(in.uvarint())
	if code == 0 {
		for range n {
			in.run = append(in.run, v)
			v += step
		}
		return
	}
	in.run = append(in.run, v)
	if n == 1 {
		return
	}
	in.run = append(in.run, v+step)
	in.unpackBits(n-2, codeWidth(code))
	for i := 2; i < len(in.run); i++ {
		if step < 0 {
			in.run[i] = in.run[i-1] - in.run[i]
		} else {
			in.run[i] += in.run[i-1]
		}
	}
}

// patched reads values above a base, some of which get more bits from a list of patches: each says how many values after the
// one before it lies, and the bits.
func (in *integerInput) patched(n, width int) {
	third, fourth := in.byte(), in.byte()
	baseBytes, patchWidth := int(third>>5)+1, codeWidth(int(third&31))
	gapWidth, patches := int(fourth>>5)+1, int(fourth&31)
	base := int64(in.bigEndian(baseBytes))
	if sign := int64(1) << (8*baseBytes - 1); base&sign != 0 {
		base = -(base &^ sign)
	}
	in.unpackBits(n, width)
	values := len(in.run)
	if gapWidth+patchWidth > 64 {
		in.fail(errors.New("a patch has more than 64 bits"))
	}
	in.unpackBits(patches, closestWidth(gapWidth+patchWidth))
	at := 0
	for _, patch := range in.run[values:] {
		at += int(uint64(patch) >> patchWidth)
		bits := uint64(patch) & (1<<patchWidth - 1)
		if at >= values {
			in.fail(errors.New("a patch lies beyond its run"))
		}
		in.run[at] |= int64(bits << width)
	}
	in.run = in.run[:values]
	for i := range in.run {
		in.run[i] += base
	}
}

// bigVarint reads a number in a zigzag of up to 128 bits, as its high and low half.
func (in *input) bigVarint() (high int64, low uint64) {
	var h, l uint64
	for shift := 0; ; shift += 7 {
		b := in.byte()
		part := uint64(b & 0x7f)
		switch {
		case shift < 64:
			l |= part << shift
			if shift > 57 {
				h |= part >> (64 - shift)
			}
		case shift < 128:
			h |= part << (shift - 64)
		default:
			in.fail(errors.New("a number has more than 128 bits"))
		}
		if b < 0x80 {
			break
		}
	}
	negative := l&1 == 1
	l, h = l>>1|h<<63, h>>1
	if negative {
		l, h = ^l, ^h
	}
	return int64(h), l
}
