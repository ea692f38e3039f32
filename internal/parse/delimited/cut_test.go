package delimited

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"

	"trevak/internal/parse"
	"trevak/internal/parse/bytemask"
	"trevak/internal/parse/cells"
)

// randomText returns text of records of about as many fields, in which what is out of the usual is rare.
func randomText(random *rand.Rand, width, rare int) []byte {
	var text []byte
	for range random.IntN(200) {
		fields := width
		if random.IntN(rare) == 0 {
			fields = random.IntN(2 * width)
		}
		for i := range fields {
			if i > 0 {
				text = append(text, ',')
			}
			switch random.IntN(rare) {
			case 0:
				text = append(text, "\"a \"\"bank\"\", and\nmore\""...)
			case 1:
				text = append(text, `"calm"`...)
			case 2:
				text = append(text, "\"calm\"er"...)
			case 3:
				text = append(text, "\xff\"\r"...)
			case 4:
				text = append(text, "5\" nail"...)
			default:
				text = append(text, "Lantern Bank"[:random.IntN(13)]...)
			}
		}
		switch random.IntN(2 * rare) {
		case 0:
			text = append(text, "\n\n"...)
		case 1:
			text = append(text, "\n#a,comment\n"...)
		case 2:
			text = append(text, "\nhead,er,line\n"...)
		case 3:
			text = append(text, "\r\n"...)
		default:
			text = append(text, '\n')
		}
	}
	if random.IntN(4) == 0 {
		text = append(text, "the,last,one"...)
	}
	return text
}

// TestRecordsInPieces reads blocks at once, some rows at a time, and one field at a time.
func TestRecordsInPieces(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 9))
	for round := range 3000 {
		rare := []int{8, 60, 1000}[random.IntN(3)]
		p := Parser{Dialect: comma, Width: 1 + random.IntN(40), Pad: random.IntN(3) == 0, SkipBlank: random.IntN(2) == 0,
			Skip: random.IntN(3)}
		if random.IntN(2) == 0 {
			p.Header = "head,er,line"
		}
		if random.IntN(2) == 0 {
			p.Dialect.Comment = '#'
		}
		block := parse.Block{Data: randomText(random, p.Width, rare), Line: 1}
		if random.IntN(10) == 0 {
			p.Width = 0
		}
		whole, pieces, slow := Records{}, Records{}, Records{}
		p.Parse(&block, &whole)
		for p.Begin(&block, &pieces); pieces.More(1 + random.IntN(20)); {
			if row := pieces.Rows - 1; len(pieces.Row(row)) != p.Width && p.Width > 0 {
				t.Fatalf("round %d: row %d has %d fields before the rest is read", round, row, len(pieces.Row(row)))
			}
		}
		p.Begin(&block, &slow)
		slow.scan.usual = false
		slow.More(math.MaxInt)
		for name, r := range map[string]*Records{"some rows at a time": &pieces, "one field at a time": &slow} {
			if !reflect.DeepEqual(whole.Table(), r.Table()) || !reflect.DeepEqual(whole.starts, r.starts) ||
				fmt.Sprint(whole.Problems) != fmt.Sprint(r.Problems) ||
				whole.Repeated != r.Repeated || !reflect.DeepEqual(whole.Surplus, r.Surplus) {
				t.Fatalf("round %d: %d rows, %d problems at once, %d and %d when read %s, of\n%q", round, whole.Rows, len(whole.Problems),
					r.Rows, len(r.Problems), name, block.Data)
			}
		}
	}
}

// TestCutAgreesWithAnyProcessor makes fields of random bits both ways.
func TestCutAgreesWithAnyProcessor(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	for round := range 2000 {
		var a, b cut
		n := 1 + random.IntN(8)
		for _, c := range []*cut{&a, &b} {
			c.dst, c.lines, c.opened = make([]cells.Span, n*bytemask.Word+cutTogether), make([]lineEnd, n*bytemask.Word+1),
				make([]uint32, n*bytemask.Word+1)
		}
		for range n {
			ends := random.Uint64()
			for range random.IntN(4) {
				ends &= random.Uint64()
			}
			a.ends, a.feeds = append(a.ends, ends), append(a.feeds, ends&random.Uint64()&random.Uint64())
			a.opens = append(a.opens, ends<<1&^ends&random.Uint64())
		}
		b.ends, b.feeds, b.opens = a.ends, a.feeds, a.opens
		base := 64 * random.IntN(100)
		start := max(0, base-random.IntN(64))
		fields, lines, opened, next := a.run(base, start)
		fields2, lines2, opened2, next2 := b.runGo(base, start)
		if fields != fields2 || lines != lines2 || opened != opened2 || next != next2 ||
			!reflect.DeepEqual(a.dst[:fields], b.dst[:fields]) ||
			!reflect.DeepEqual(a.lines[:lines], b.lines[:lines]) || !reflect.DeepEqual(a.opened[:opened], b.opened[:opened]) {
			t.Fatalf("round %d: %d fields, %d lines, %d opened, next %d; for any processor %d, %d, %d, %d", round, fields, lines, opened,
				next, fields2, lines2, opened2, next2)
		}
	}
}
