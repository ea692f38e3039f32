package orc

// place is where a row group begins in a stream: the offset in what was encoded, and what the index adds to it: how many
// values, and bits, of the run that begins there are to be passed over ("Row Group Index").
type place struct {
	offset int
	inside []uint64
}

// stream is a finished stream of a column.
type stream struct {
	kind   uint64
	body   []byte
	places []place // for each row group; none for dictionaries and their lengths, which belong to the whole stripe
}

// bitStream collects bits, which are written as runs of bytes, the highest bit first ("Boolean Run Length Encoding").
type bitStream struct {
	bytes []byte
	n     int
	marks []int // how many bits there were where row groups begin
	unset bool  // some bit is 0
}

func (b *bitStream) add(bit bool) {
	if b.n%8 == 0 {
		b.bytes = append(b.bytes, 0)
	}
	if bit {
		b.bytes[b.n/8] |= 0x80 >> (b.n % 8)
	} else {
		b.unset = true
	}
	b.n++
}

func (b *bitStream) mark() { b.marks = append(b.marks, b.n) }

// finish encodes the bits. A run ends before the byte in which a row group begins.
func (b *bitStream) finish(kind uint64) stream {
	out := stream{kind: kind}
	done := 0
	for _, at := range b.marks {
		out.body = byteRuns(out.body, b.bytes[done:at/8])
		done = at / 8
		out.places = append(out.places, place{len(out.body), []uint64{0, uint64(at % 8)}})
	}
	out.body = byteRuns(out.body, b.bytes[done:])
	return out
}

func (b *bitStream) reset() { *b = bitStream{bytes: b.bytes[:0], marks: b.marks[:0]} }

// valueStream collects integers in runs, or bytes as they are.
type valueStream struct {
	integers
	places []place
}

// markRuns notes where a row group begins among integers, markBytes among bytes.
func (v *valueStream) markRuns() {
	v.places = append(v.places, place{v.flush(), []uint64{0}})
}

func (v *valueStream) markBytes() { v.places = append(v.places, place{offset: len(v.body)}) }

// finish hands over what was collected.
func (v *valueStream) finish(kind uint64) stream {
	v.flush()
	return stream{kind, v.body, v.places}
}

func (v *valueStream) reset() {
	v.body, v.places, v.pending = nil, nil, v.pending[:0]
}

// size is about how many bytes the stream has.
func (v *valueStream) size() int { return len(v.body) + 2*len(v.pending) }
