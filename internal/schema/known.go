package schema

import (
	"math/bits"

	"trevak/internal/lexical"
	"trevak/internal/parse/cells"
	"trevak/internal/parse/delimited"
	"trevak/internal/wordtable"
)

// known numbers the texts of a column of delimited text that were weighed already, so that many that repeat are counted at once.
type known struct {
	table   wordtable.Table
	classes []uint8 // their indices, by number
	all     Class   // the set of them
	looks   int
	misses  int
	next    int // after how many looks it is decided again whether numbering pays
	taken   int // of the room
}

// batch is what texts are known by that are looked at together.
type batch struct {
	codes [lexical.Together]uint32
	words [lexical.Together]lexical.Word
}

// Numbering is given up when so few of the first texts were met before that more than mostKnown different ones are to be
// expected, and when most are still new later. A number takes about as much memory as numberHashes hashes.
const (
	firstKnown   = 512
	laterKnown   = 32 << 10
	mostKnown    = 32 << 10
	numberHashes = 4
)

// pays reports whether numbering still does.
func (k *known) pays() bool {
	if k.looks < k.next {
		return true
	}
	k.next = 2 * k.looks
	looked, repeated := float64(k.looks), float64(k.looks-k.misses)
	if k.looks >= laterKnown {
		return repeated >= looked/4
	}
	// Of n values out of d equally common ones, n*n/2d are expected to repeat another.
	return repeated*2*mostKnown >= looked*looked || repeated >= looked/4
}

// add numbers a text of a class, if there is room.
func (k *known) add(word lexical.Word, class int, room *Room) {
	n := len(k.classes)
	if n >= mostKnown {
		return
	}
	if n >= recentFrom && n&(n-1) == 0 {
		// As many again may follow.
		if !room.take(numberHashes * n) {
			return
		}
		k.taken += numberHashes * n
	}
	k.table.Add(word, uint32(n+1))
	k.classes = append(k.classes, uint8(class))
	k.all |= 1 << class
}

// column adds a column's texts of some records.
func (n *Node) column(r *delimited.Records, column, from, to int, w *where) {
	if n.serial != w.serial {
		n.begin(w)
	}
	in := r.Column(column)
	for ; from < to; from += lexical.Together {
		count := min(to-from, lexical.Together)
		one := ^uint64(0) >> (lexical.Together - count)
		if n.looks >= 0 && !n.opens() {
			one = n.countKnown(&in, from, count, w)
		}
		for ; one != 0; one &= one - 1 {
			row := from + bits.TrailingZeros64(one)
			w.start = r.Start(row)
			n.one(&in, row, w)
		}
	}
}

// one adds one text.
func (n *Node) one(in *cells.Column, row int, w *where) {
	text, quoted, doubled := in.Text(row)
	if len(text) == 0 && !quoted {
		n.tally(nullIndex, nil, w)
		return
	}
	value := text
	if doubled {
		value, _ = in.Value(row, &w.unquoted)
	}
	if n.opens() {
		n.open(value, w)
		return
	}
	k := n.known
	if k == nil || len(text) > lexical.WordBytes {
		n.weighNew(value, lookField, hashText(value), w)
		return
	}
	word := lexical.TextWord(text).Quoted(quoted, doubled)
	if id := k.table.Find(word); id != 0 {
		n.repeat(w)
		class := int(k.classes[id-1])
		n.tally(class, value, w)
		if class == tokenIndex {
			n.token(value)
		}
		return
	}
	k.misses++
	k.add(word, n.weighNew(value, lookField, hashText(value), w), w.room)
}

// countKnown counts texts that were weighed before and are not to be noted with their places, and such as are none. It returns a
// bit for each of the others.
func (n *Node) countKnown(in *cells.Column, from, count int, w *where) (others uint64) {
	k := n.known
	if k == nil {
		k = &known{table: wordtable.New(), next: firstKnown}
		n.known = k
	}
	far := in.Words(from, count, &w.batch.words)
	present, others := k.table.Known(w.batch.codes[:count], &w.batch.words)
	others |= far
	empty := ^(present | others) & (^uint64(0) >> (lexical.Together - count))
	if k.looks += count - bits.OnesCount64(empty); !k.pays() {
		w.room.give(k.taken)
		n.known, n.looks = nil, -1
		return ^uint64(0) >> (lexical.Together - count)
	}
	if !n.settled(nullIndex) {
		others |= empty
	} else {
		n.Counts[nullIndex] += int64(bits.OnesCount64(empty))
	}
	if present == 0 {
		return others
	}
	n.repeat(w)
	if single := k.all.Index(); k.all == 1<<single && single != tokenIndex && n.settled(single) {
		n.Counts[single] += int64(bits.OnesCount64(present))
		return others
	}
	for ; present != 0; present &= present - 1 {
		i := bits.TrailingZeros64(present)
		if class := int(k.classes[w.batch.codes[i]]); class == tokenIndex || !n.settled(class) {
			others |= 1 << i
		} else {
			n.Counts[class]++
		}
	}
	return others
}

// settled reports whether no value of a class is to be noted with its place any more in this block.
func (n *Node) settled(class int) bool { return n.ordered && len(n.first[class]) == instancesKept }

// repeat takes note that a text occurred before.
func (n *Node) repeat(w *where) {
	if w.keys && !n.Repeats {
		n.dropHashes()
	}
}
