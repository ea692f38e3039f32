package schema

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
)

// texts makes delimited texts of columns in which values repeat seldom or often, some with quotes, none, or of another class.
func texts(random *rand.Rand, rows int) string {
	var b strings.Builder
	for i := range rows {
		odd := ""
		if random.IntN(300) == 0 {
			odd = []string{"n/a", `""`, "about 4", "1e6", `"say ""so"""`, "2031-05-03", "a text of more than sixteen bytes", "-"}[random.IntN(8)]
		}
		cells := []string{fmt.Sprint(i), fmt.Sprintf("OS-%04d", random.IntN(40)), fmt.Sprintf("%.2f", random.Float64()*float64(1+i/100)), odd,
			[]string{"true", "false", ""}[random.IntN(3)], []string{"7", `"7"`, odd}[random.IntN(3)]}
		b.WriteString(strings.Join(cells, ",") + "\n")
	}
	return b.String()
}

// TestTextsAreCountedTogetherAsOneByOne holds what is counted of many texts at once against what comes of each by itself.
func TestTextsAreCountedTogetherAsOneByOne(t *testing.T) {
	names := []string{"reading", "buoy", "wave_m", "odd", "ok", "seven"}
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 5))
		together, single := Observed{Keys: seed%2 == 0}, Observed{Keys: seed%2 == 0}
		if seed%3 == 0 {
			together.Nulls, single.Nulls = []string{"7", "OS-0007"}, []string{"7", "OS-0007"}
		}
		parser := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: len(names)}
		blocks := 1 + random.IntN(5)
		offset := int64(0)
		for range blocks {
			data := []byte(texts(random, 1+random.IntN(3000)))
			var r delimited.Records
			parser.Parse(&parse.Block{Object: 0, Line: 1, Offset: offset, Data: data}, &r)
			offset += int64(len(data))
			together.Delimited(&r, names)
			addOneByOne(&single, &r, names)
		}
		for c, name := range names {
			a, b := together.Root.Fields[c], single.Root.Fields[c]
			if a.Counts != b.Counts || a.Seen != b.Seen || !reflect.DeepEqual(a.Tokens, b.Tokens) || !reflect.DeepEqual(a.first, b.first) {
				t.Fatalf("seed %d, %s: %v, %v, %v, first %v; one by one %v, %v, %v, first %v", seed, name, a.Counts, a.Seen, a.Tokens, a.first,
					b.Counts, b.Seen, b.Tokens, b.first)
			}
			distinct, _ := a.Distinct.Estimate()
			distinct2, _ := b.Distinct.Estimate()
			unique, known := a.Unique()
			unique2, known2 := b.Unique()
			if distinct != distinct2 || unique != unique2 || known != known2 || !reflect.DeepEqual(a.numbers, b.numbers) || !reflect.DeepEqual(a.texts, b.texts) {
				t.Fatalf("seed %d, %s: %d different, unique %v, %v; one by one %d, %v, %v", seed, name, distinct, unique, known, distinct2, unique2, known2)
			}
		}
	}
}

// addOneByOne adds records as Delimited does, each text by itself.
func addOneByOne(o *Observed, r *delimited.Records, names []string) {
	w := o.where(r.Block)
	for c, name := range names {
		node := o.Root.Field(name)
		node.looks = -1
		node.begin(&w)
		in := r.Column(c)
		for row := range r.Rows {
			w.start = r.Start(row)
			node.one(&in, row, &w)
		}
	}
}

// TestNumberingStopsWhereItDoesNotPay gives a column in which nothing repeats, and takes its room back.
func TestNumberingStopsWhereItDoesNotPay(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, "%d,%d\n", i, i%900)
	}
	o := Observed{Keys: true, Room: NewRoom(1 << 20)}
	var r delimited.Records
	parser := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 2}
	parser.Parse(&parse.Block{Line: 1, Data: []byte(b.String())}, &r)
	o.Delimited(&r, []string{"all", "few"})
	kept := []bool{o.Root.Fields[0].known != nil, o.Root.Fields[1].known != nil}
	if !slices.Equal(kept, []bool{false, true}) {
		t.Fatalf("the columns are numbered: %v", kept)
	}
}
