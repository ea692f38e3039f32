package cells

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"trevak/internal/lexical"
)

// halves is an Unquoter of texts in which every character stands twice.
type halves struct{}

func (halves) Unquote(dst, text []byte) []byte {
	for i := 0; i < len(text); i += 2 {
		dst = append(dst, text[i])
	}
	return dst
}

// scattered is a column of texts anywhere in a block: short ones, long ones, empty ones, at its very end, in quotes and with escapes.
func scattered(random *rand.Rand) *Column {
	c := &Column{Data: make([]byte, 1+random.IntN(300)), Stride: 1 + random.IntN(4), Unquoter: halves{}}
	for i := range c.Data {
		c.Data[i] = byte('a' + random.IntN(26))
	}
	for range c.Stride * random.IntN(2*lexical.Together) {
		start := random.IntN(len(c.Data) + 1)
		size := min(random.IntN(20), len(c.Data)-start)
		s := Span{uint32(start), uint32(start + size)}
		if random.IntN(5) == 0 {
			s.Start |= Flag
		}
		if size > 0 && size%2 == 0 && random.IntN(5) == 0 {
			s.End |= Flag
		}
		c.Spans = append(c.Spans, s)
	}
	return c
}

// TestGatheringAgreesWithAnyProcessor gathers the texts of columns both ways, and holds them against the texts themselves.
func TestGatheringAgreesWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 1))
	for round := range 4000 {
		c := scattered(random)
		all := len(c.Spans) / c.Stride
		if all == 0 {
			continue
		}
		from := random.IntN(all)
		n := min(random.IntN(lexical.Together+1), all-from)
		spans := c.Spans[from*c.Stride:]

		var keys, sizes, keys2, sizes2 [lexical.Together]uint64
		present, others := c.Keys(from, n, &keys, &sizes)
		present2, others2 := c.keysOneByOne(spans, n, &keys2, &sizes2)
		if present != present2 || others != others2 || keys != keys2 || sizes != sizes2 {
			t.Fatalf("round %d: keys of %d texts: present %x, others %x; for any processor %x, %x", round, n, present, others, present2,
				others2)
		}
		var words, words2 [lexical.Together]lexical.Word
		far := c.Words(from, n, &words)
		if far2 := c.wordsOneByOne(spans, n, &words2); far != far2 || words != words2 {
			t.Fatalf("round %d: words of %d texts: others %x, for any processor %x", round, n, far, far2)
		}
		var places [lexical.Together]lexical.Place
		found, odd := c.Places(from, n, &places)
		for i := range n {
			text, quoted, escaped := c.Text(from + i)
			if bit := uint64(1) << i; present&bit != 0 &&
				(escaped || keys[i] != lexical.ShortKey(text) || sizes[i] != uint64(len(text))) {
				t.Fatalf("round %d: key %x of %d bytes for %q", round, keys[i], sizes[i], text)
			} else if present&bit == 0 && others&bit == 0 && (len(text) > 0 || quoted) {
				t.Fatalf("round %d: %q is not gathered", round, text)
			}
			if far>>i&1 == 0 && words[i] != lexical.TextWord(text).Quoted(quoted, escaped) {
				t.Fatalf("round %d: word %x for %q", round, words[i], text)
			}
			p, there, asked := places[i], found>>i&1 == 1, odd>>i&1 == 1
			if asked != (escaped || quoted && len(text) == 0) || there != (len(text) > 0 && !escaped) {
				t.Fatalf("round %d: %q, quoted %v, escaped %v, is there: %v, to be asked for: %v", round, text, quoted, escaped, there,
					asked)
			}
			if there && string(c.Data[p.Start:p.Start+p.Size]) != string(text) || !there && p.Size != 0 {
				t.Fatalf("round %d: %d bytes at %d are not %q", round, p.Size, p.Start, text)
			}
		}
	}
}

func TestValuesAreUnquoted(t *testing.T) {
	c := Column{Data: []byte("x,aabb,plain,"), Spans: []Span{{0, 1}, {2, 6 | Flag}, {7 | Flag, 12}, {12, 12}}, Stride: 1,
		Unquoter: halves{}}
	scratch := []byte("kept from before")
	for i, want := range []struct {
		text   string
		quoted bool
	}{{"x", false}, {"ab", false}, {"plain", true}, {"", false}} {
		text, quoted := c.Value(i, &scratch)
		if string(text) != want.text || quoted != want.quoted {
			t.Errorf("value %d is %q, quoted %v; want %q, %v", i, text, quoted, want.text, want.quoted)
		}
	}
	c.Stride = 2
	if text, quoted, escaped := c.Text(1); !bytes.Equal(text, []byte("plain")) || !quoted || escaped {
		t.Errorf("the second of every second text is %q, %v, %v", text, quoted, escaped)
	}
}
