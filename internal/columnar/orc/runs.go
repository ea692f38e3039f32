package orc

import (
	"encoding/binary"
	"math/bits"

	"google.golang.org/protobuf/encoding/protowire"
)

// longestRun is how many integers a run has at most ("Integer Run Length Encoding, version 2").
const longestRun = 512

// The sub-encodings, in the top two bits of a run.
const (
	shortRepeat = iota
	direct
	patchedBase
	delta
)

// integers is a stream of integers in runs.
type integers struct {
	signed  bool
	pending []int64
	body    []byte
}

func (s *integers) add(v int64) {
	if s.pending = append(s.pending, v); len(s.pending) >= 4*longestRun {
		s.encode(2 * longestRun)
	}
}

// flush ends the open run, and returns where the next begins.
func (s *integers) flush() int {
	s.encode(len(s.pending))
	return len(s.body)
}

// encode writes at least the first n of the values that wait.
func (s *integers) encode(n int) {
	done := 0
	for done < n {
		rest := s.pending[done:]
		if same := repeats(rest); same >= 3 {
			s.repeated(rest[0], same)
			done += same
			continue
		}
		end := 1
		for end < min(len(rest), longestRun) && repeats(rest[end:]) < 5 {
			end++
		}
		s.varied(rest[:end])
		done += end
	}
	s.pending = append(s.pending[:0], s.pending[done:]...)
}

// repeats counts how often the first value is repeated, up to the length of a run.
func repeats(list []int64) int {
	n := 1
	for n < len(list) && n < longestRun && list[n] == list[0] {
		n++
	}
	return n
}

// stored is the form of a value that is packed: signed ones are made positive in a zigzag.
func (s *integers) stored(v int64) uint64 {
	if s.signed {
		return protowire.EncodeZigZag(v)
	}
	return uint64(v)
}

// repeated writes a value that occurs n times over, 3 to 512.
func (s *integers) repeated(v int64, n int) {
	if n > 10 {
		s.header(delta, 0, n)
		s.body = binary.AppendUvarint(s.body, s.stored(v))
		s.body = append(s.body, 0)
		return
	}
	u := s.stored(v)
	width := max(1, (bits.Len64(u)+7)/8)
	s.body = append(s.body, byte(width-1)<<3|byte(n-3))
	for at := width - 1; at >= 0; at-- {
		s.body = append(s.body, byte(u>>(8*at)))
	}
}

// header writes the two bytes that begin a run of n values: the sub-encoding, the code of a width in 5 bits, and n-1 in 9 bits.
func (s *integers) header(sub, code, n int) {
	s.body = append(s.body, byte(sub<<6|code<<1|(n-1)>>8), byte(n-1))
}

// varied writes a run of different values, as deltas where they only rise or only fall and that is shorter.
func (s *integers) varied(list []int64) {
	var all uint64
	for _, v := range list {
		all |= s.stored(v)
	}
	width := closestWidth(bits.Len64(all))
	if len(list) > 2 {
		if deltas, ok := steps(list); ok && deltas < width {
			s.deltas(list, deltas)
			return
		}
	}
	s.header(direct, widthCode(width), len(list))
	s.body = packBits(s.body, list, width, s.stored)
}

// steps returns how many bits the steps after the first take, 0 where all steps are the same; ok is false where values rise and
// fall, or do not fit a subtraction.
func steps(list []int64) (width int, ok bool) {
	first := list[1] - list[0]
	same, all := true, uint64(0)
	for i := 1; i < len(list); i++ {
		step := list[i] - list[i-1]
		if (list[i] < list[i-1]) != (step < 0) || (step < 0) != (first < 0) && step != 0 || first == 0 && step < 0 {
			return 0, false
		}
		if step != first {
			same = false
		}
		if step < 0 {
			step = -step
		}
		if i > 1 {
			all |= uint64(step)
		}
	}
	if same {
		return 0, true
	}
	// One bit cannot be told from no bits here.
	return closestWidth(max(2, bits.Len64(all))), true
}

// deltas writes the first value, the first step with its sign, and the sizes of the other steps.
func (s *integers) deltas(list []int64, width int) {
	code := 0
	if width > 0 {
		code = widthCode(width)
	}
	s.header(delta, code, len(list))
	s.body = binary.AppendUvarint(s.body, s.stored(list[0]))
	s.body = binary.AppendUvarint(s.body, protowire.EncodeZigZag(list[1]-list[0]))
	if width == 0 {
		return
	}
	sizes := make([]int64, len(list)-2)
	for i := range sizes {
		if sizes[i] = list[i+2] - list[i+1]; sizes[i] < 0 {
			sizes[i] = -sizes[i]
		}
	}
	s.body = packBits(s.body, sizes, width, func(v int64) uint64 { return uint64(v) })
}

// packBits writes values one after the other, the highest bit first.
func packBits(dst []byte, list []int64, width int, stored func(int64) uint64) []byte {
	var word byte
	free := 8
	for _, v := range list {
		u := stored(v)
		for left := width; left > 0; {
			n := min(left, free)
			word |= byte(u>>(left-n)&(1<<n-1)) << (free - n)
			left -= n
			if free -= n; free == 0 {
				dst = append(dst, word)
				word, free = 0, 8
			}
		}
	}
	if free < 8 {
		dst = append(dst, word)
	}
	return dst
}

// Widths of up to 24 bits have codes of their own, wider ones are rounded up to one of these.
var wideWidths = []int{26, 28, 30, 32, 40, 48, 56, 64}

// closestWidth returns the smallest width that can be written and holds so many bits.
func closestWidth(n int) int {
	if n <= 24 {
		return max(1, n)
	}
	for _, w := range wideWidths {
		if n <= w {
			return w
		}
	}
	return 64
}

func widthCode(width int) int {
	if width <= 24 {
		return width - 1
	}
	for i, w := range wideWidths {
		if w == width {
			return 24 + i
		}
	}
	return 31
}

// codeWidth is the width that a code stands for.
func codeWidth(code int) int {
	if code < 24 {
		return code + 1
	}
	return wideWidths[code-24]
}

// byteRuns writes bytes in runs ("Byte Run Length Encoding"): repeated ones as a count and the byte, others with a negative
// count before them.
func byteRuns(dst, list []byte) []byte {
	const shortest, longest, literals = 3, 127 + 3, 128
	for len(list) > 0 {
		n := sameBytes(list, longest)
		if n >= shortest {
			dst = append(dst, byte(n-shortest), list[0])
			list = list[n:]
			continue
		}
		end := 0
		for end < min(len(list), literals) && sameBytes(list[end:], shortest) < shortest {
			end++
		}
		dst = append(dst, byte(-end))
		dst = append(dst, list[:end]...)
		list = list[end:]
	}
	return dst
}

func sameBytes(list []byte, most int) int {
	n := 1
	for n < len(list) && n < most && list[n] == list[0] {
		n++
	}
	return n
}
