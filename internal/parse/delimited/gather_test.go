package delimited

import (
	"math/rand/v2"
	"testing"

	"trevak/internal/lexical"
	"trevak/internal/parse"
)

// gathered is a block of records in which short texts, long ones, empty ones and quotes of all kinds come at random.
func gathered(random *rand.Rand) *Records {
	p := Parser{Dialect: comma, Width: 1 + random.IntN(4), Pad: true}
	var r Records
	p.Parse(&parse.Block{Data: randomText(random, p.Width, 4), Line: 1}, &r)
	return &r
}

// TestGatheringAgreesWithAnyProcessor gathers the texts of columns both ways, and holds them against the texts themselves.
func TestGatheringAgreesWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 1))
	for round := range 2000 {
		r := gathered(random)
		if r.Rows == 0 {
			continue
		}
		row, column := random.IntN(r.Rows), random.IntN(r.Width)
		n := min(random.IntN(lexical.Together+1), r.Rows-row)
		fields := r.fields[row*r.Width+column:]

		var keys, sizes, keys2, sizes2 [lexical.Together]uint64
		present, others := r.Keys(row, column, n, &keys, &sizes)
		present2, others2 := r.keysOneByOne(fields, n, &keys2, &sizes2)
		if present != present2 || others != others2 || keys != keys2 || sizes != sizes2 {
			t.Fatalf("round %d: keys of %d texts: present %x, others %x; for any processor %x, %x, of\n%q", round, n, present, others, present2, others2, r.Block.Data)
		}
		var words, words2 [lexical.Together]lexical.Word
		far := r.Words(row, column, n, &words)
		if far2 := r.wordsOneByOne(fields, n, &words2); far != far2 || words != words2 {
			t.Fatalf("round %d: words of %d texts: others %x, for any processor %x, of\n%q", round, n, far, far2, r.Block.Data)
		}
		var places [lexical.Together]lexical.Place
		found, odd := r.Places(row, column, n, &places)
		for i := range n {
			text, quoted, doubled := r.Text(row+i, column)
			p, there, asked := places[i], found>>i&1 == 1, odd>>i&1 == 1
			if asked != (doubled || quoted && len(text) == 0) || there != (len(text) > 0 && !doubled) {
				t.Fatalf("round %d: %q, quoted %v, doubled %v, is there: %v, to be asked for: %v", round, text, quoted, doubled, there, asked)
			}
			if there && string(r.Block.Data[p.Start:p.Start+p.Size]) != string(text) || !there && p.Size != 0 {
				t.Fatalf("round %d: %d bytes at %d are not %q", round, p.Size, p.Start, text)
			}
			if bit := uint64(1) << i; present&bit != 0 && (doubled || keys[i] != lexical.ShortKey(text) || sizes[i] != uint64(len(text))) {
				t.Fatalf("round %d: key %x of %d bytes for %q", round, keys[i], sizes[i], text)
			} else if present&bit == 0 && others&bit == 0 && (len(text) > 0 || quoted) {
				t.Fatalf("round %d: %q is not gathered", round, text)
			}
			if far>>i&1 == 0 && words[i] != lexical.TextWord(text).Quoted(quoted, doubled) {
				t.Fatalf("round %d: word %x for %q", round, words[i], text)
			}
		}
	}
}
