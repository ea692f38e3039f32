package delimited

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestBlanksAndWidths(t *testing.T) {
	blanks := Dialect{Delimiter: ' ', Quote: '"', Blanks: true}
	widths := Dialect{Widths: []int{3, 5}}
	closed := Dialect{Delimiter: ',', Quote: '"', Closed: true}
	tests := []struct {
		name     string
		parser   Parser
		text     string
		rows     string
		problems string
	}{
		{"runs of blanks", Parser{Dialect: blanks}, "  a \t b\n\nc d  \r\ne  f", "[[a b] [c d] [e f]]", "[]"},
		{"a carriage return alone at the end", Parser{Dialect: blanks}, "a b\nc d\r", "[[a b] [c d]]", "[]"},
		{"quotes among blanks", Parser{Dialect: blanks}, "\"a b\"  \"\"  c\"d\n\"x \"\"y\n z\" e f\n",
			"[[q:a b q: c\"d] [q:x \"y\n z e f]]", "[]"},
		{"text behind a quote", Parser{Dialect: blanks}, "\"a\"b c\nd e\n", "[[d e]]",
			"[1@0 has text after the closing quote of a field]"},
		{"too few among blanks", Parser{Dialect: blanks, Width: 2}, "a\nb c\n", "[[b c]]", "[1@0 has 1 field where 2 are expected]"},
		{"widths", Parser{Dialect: widths, Width: 2}, "a  b c \nü  12345\nx\n\n  y    z\n", "[[a b c] [ü 12345] [x ] [y z]]", "[]"},
		{"more than the widths", Parser{Dialect: widths, Width: 2}, "a  12345 67\nb  c\n", "[[b c]]",
			"[1@0 has 3 fields where 2 are expected]"},
		{"a delimiter at the end of records", Parser{Dialect: closed, Width: 2}, "a,b,\nc,,\nd,e\nf,g,\"\"\n,,\n",
			"[[a b] [c ] [d e] [ ]]", "[4@13 has 3 fields where 2 are expected]"},
		{"some lacking fields", Parser{Dialect: comma, Width: 4, Least: 2}, "a,b,c,d\ne,f\ng\nh,i,j,k,l\n\"m\",\"n\"",
			"[[a b c d] [e f  ] [q:m q:n  ]]", "[3@12 has 1 field where 4 are expected 4@14 has 5 fields where 4 are expected]"},
	}
	for _, test := range tests {
		for size := 1; size < len(test.text)+2; size++ {
			rows, problems := read(t, test.parser, test.text, size)
			if fmt.Sprint(rows) != test.rows || fmt.Sprint(problems) != test.problems {
				t.Fatalf("%s, blocks of %d: %v %v, want %s %s", test.name, size, rows, problems, test.rows, test.problems)
			}
		}
	}
}

func TestDelimitersAsText(t *testing.T) {
	for _, d := range []Dialect{{Delimiter: ' ', Blanks: true, Quote: '"'}, {Widths: []int{5, 12}}, {Delimiter: ',', Quote: '"'},
		{Delimiter: '|', Rest: "|", Quote: '"'}, {Delimiter: noDelimiter, Quote: '"'}} {
		again := Dialect{Quote: '"'}
		if again.SetDelimiter(d.DelimiterText()); fmt.Sprint(again) != fmt.Sprint(d) {
			t.Errorf("%q gives %+v, want %+v", d.DelimiterText(), again, d)
		}
	}
}

// TestBlanksReadBackEqual writes random fields with random blanks around them, and reads them.
func TestBlanksReadBackEqual(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	blank := func(least int) string {
		return strings.Repeat([]string{" ", "\t", "  "}[random.IntN(3)], least+random.IntN(2))
	}
	for range 200 {
		var text strings.Builder
		var want [][]string
		width := 1 + random.IntN(5)
		for range 1 + random.IntN(20) {
			var row []string
			text.WriteString(blank(0))
			for c := range width {
				if c > 0 {
					text.WriteString(blank(1))
				}
				field := strings.Repeat(string(rune('a'+random.IntN(26))), 1+random.IntN(6))
				if random.IntN(4) == 0 {
					quoted := field + blank(1) + "\"\n" + field
					text.WriteString(`"` + strings.ReplaceAll(quoted, `"`, `""`) + `"`)
					row = append(row, "q:"+quoted)
				} else {
					text.WriteString(field)
					row = append(row, field)
				}
			}
			text.WriteString(blank(0) + "\n")
			want = append(want, row)
		}
		p := Parser{Dialect: Dialect{Delimiter: ' ', Quote: '"', Blanks: true}, Width: width}
		if rows, problems := read(t, p, text.String(), 1+random.IntN(100)); fmt.Sprint(rows) != fmt.Sprint(want) || len(problems) > 0 {
			t.Fatalf("%q: %q %v, want %q", text.String(), rows, problems, want)
		}
	}
}
