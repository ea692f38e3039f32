package delimited

import (
	"bytes"
	"context"
	"fmt"
	"math/rand"
	rand2 "math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"trevak/internal/parse"
)

var comma = Dialect{Delimiter: ',', Quote: '"'}

// read cuts text into blocks of a given size and returns every record's fields and every problem's place and reason.
func read(t testing.TB, p Parser, text string, blockBytes int) (rows [][]string, problems []string) {
	t.Helper()
	var r Records
	limits := parse.Limits{BlockBytes: blockBytes, RecordBytes: 1 << 20}
	alloc := func(n int) ([]byte, error) { return make([]byte, 0, n), nil }
	err := parse.Blocks(context.Background(), strings.NewReader(text), p.Dialect, limits, alloc, func(b parse.Block) error {
		p.Parse(&b, &r)
		for _, problem := range r.Problems {
			problems = append(problems, fmt.Sprintf("%d@%d %s", b.LineAt(problem.Start), b.Offset+int64(problem.Start), problem.Reason))
		}
		for row := range r.Rows {
			fields := []string{}
			for _, f := range r.Row(row) {
				if f.Quoted {
					f.Text = "q:" + f.Text
				}
				fields = append(fields, f.Text)
			}
			rows = append(rows, fields)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return rows, problems
}

func TestParse(t *testing.T) {
	hash := Dialect{Delimiter: '\t', Quote: '"', Comment: '#'}
	tests := []struct {
		name     string
		parser   Parser
		text     string
		rows     string
		problems string
	}{
		{"plain", Parser{Dialect: comma}, "a,b\nc,d\n", "[[a b] [c d]]", "[]"},
		{"no line end at the end", Parser{Dialect: comma}, "a,b\nc,d", "[[a b] [c d]]", "[]"},
		{"carriage returns", Parser{Dialect: comma}, "a,b\r\n\"c\",\"d\"\r\n", "[[a b] [q:c q:d]]", "[]"},
		{"empty fields", Parser{Dialect: comma}, ",\n,,\n\"\",x,", "[[ ] [  ] [q: x ]]", "[]"},
		{"quotes and line breaks", Parser{Dialect: comma}, "\"a \"\"b\"\"\nc\",d\ne,f\n", "[[q:a \"b\"\nc d] [e f]]", "[]"},
		{"a quote in mid-field is a character", Parser{Dialect: comma}, "5\" nail,b\nc\"d\",e\n", "[[5\" nail b] [c\"d\" e]]", "[]"},
		{"blank lines", Parser{Dialect: comma, Width: 2}, "a,b\n\n\r\nc,d\n\n", "[[a b] [c d]]", "[]"},
		{"blank lines in a single column", Parser{Dialect: comma, Width: 1}, "a\n\nb\n", "[[a] [] [b]]", "[]"},
		{"comments", Parser{Dialect: hash}, "# x \"y\nb\tc\n#\"\n# end", "[[b c]]", "[]"},
		{"a hash in mid-record", Parser{Dialect: hash}, "a\t#b\n\"c\n#d\"\te\n", "[[a #b] [q:c\n#d e]]", "[]"},
		{"skipped header", Parser{Dialect: comma, Width: 2, Skip: 1}, "a\nb,c\n", "[[b c]]", "[]"},
		{"short and long", Parser{Dialect: comma, Width: 2}, "a\nb,c\nd,e,f\n", "[[b c]]",
			"[1@0 has 1 field where 2 are expected 3@6 has 3 fields where 2 are expected]"},
		{"padded", Parser{Dialect: comma, Width: 3, Pad: true}, "a\nb,c\nd,e,f\n", "[[a  ] [b c ] [d e f]]", "[]"},
		{"padded and cut", Parser{Dialect: comma, Width: 2, Pad: true}, "a\nb,c,\"d\"\"\",e\n", "[[a ] [b c]]", "[]"},
		{"blank lines skipped in a single column", Parser{Dialect: comma, Width: 1, SkipBlank: true}, "a\n\nb\n", "[[a] [b]]", "[]"},
		{"text after a quote", Parser{Dialect: comma, Width: 2}, "\"a\"x,b\nc,d\n", "[[c d]]",
			"[1@0 has text after the closing quote of a field]"},
		{"never closed", Parser{Dialect: comma, Width: 2}, "a,b\n\"c,d\ne,f\n", "[[a b]]", "[2@4 opens a quote that is never closed]"},
		{"mark at the start", Parser{Dialect: comma}, "\ufeffa,b\n", "[[a b]]", "[]"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			for _, size := range []int{1, 3, 7, 64} {
				rows, problems := read(t, test.parser, test.text, size)
				if got := fmt.Sprint(rows); got != test.rows {
					t.Errorf("blocks of %d: rows %s, want %s", size, got, test.rows)
				}
				if got := fmt.Sprint(problems); got != test.problems {
					t.Errorf("blocks of %d: problems %s, want %s", size, got, test.problems)
				}
			}
		})
	}
}

// reference is a plain state machine over the same rule, a byte at a time.
func reference(d Dialect, text string) [][]string {
	var rows [][]string
	var row []string
	var field []byte
	i, atStart := 0, true
	endField := func(quoted bool) {
		f := string(field)
		if quoted {
			f = "q:" + f
		}
		row, field = append(row, f), nil
	}
	endRow := func() {
		if !(len(row) == 1 && row[0] == "") {
			rows = append(rows, row)
		}
		row = nil
	}
	for i < len(text) {
		if atStart && text[i] == d.Quote {
			i++
			for ; text[i] != d.Quote || (i+1 < len(text) && text[i+1] == d.Quote); i++ {
				if text[i] == d.Quote {
					i++
				}
				field = append(field, text[i])
			}
			i++
			endField(true)
			if i < len(text) && text[i] == '\n' {
				endRow()
			}
			i++
			continue
		}
		switch c := text[i]; c {
		case d.Delimiter:
			endField(false)
			atStart = true
		case '\n':
			endField(false)
			endRow()
			atStart = true
		default:
			field = append(field, c)
			atStart = false
		}
		i++
	}
	return rows
}

// write makes text of random records that is well formed in the dialect.
func write(random *rand.Rand, d Dialect) string {
	var b bytes.Buffer
	for range random.Intn(30) {
		width := 1 + random.Intn(6)
		for c := range width {
			if c > 0 {
				b.WriteByte(d.Delimiter)
			}
			quoted := random.Intn(3) == 0
			if quoted {
				b.WriteByte(d.Quote)
			}
			for range random.Intn(12) {
				ch := "abcdefghij, \"\n;|\r"[random.Intn(17)]
				if quoted && ch == d.Quote {
					b.WriteByte(ch)
				}
				if quoted || (ch != d.Delimiter && ch != d.Quote && ch != '\n' && ch != '\r') {
					b.WriteByte(ch)
				}
			}
			if quoted {
				b.WriteByte(d.Quote)
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func TestSurplusIsSetAside(t *testing.T) {
	var r Records
	p := Parser{Dialect: comma, Width: 1, Pad: true}
	p.Parse(&parse.Block{Data: []byte("a\nb,c,\"d\"\"\"\ne\n"), Line: 1}, &r)
	if got := fmt.Sprint(r.Surplus); got != `[{2 [c d"]}]` || r.Rows != 3 {
		t.Errorf("%s, %d rows", got, r.Rows)
	}
}

func TestAnyBlockSizeGivesTheSameRecords(t *testing.T) {
	random := rand.New(rand.NewSource(4))
	for _, d := range []Dialect{comma, {Delimiter: ';', Quote: '"'}, {Delimiter: '|', Quote: '"'}} {
		for range 60 {
			text := write(random, d)
			want := reference(d, text)
			for size := 1; size < len(text)+2; size += 1 + len(text)/40 {
				rows, _ := read(t, Parser{Dialect: d}, text, size)
				if len(rows)+len(want) > 0 && !reflect.DeepEqual(rows, want) {
					t.Fatalf("blocks of %d: %q gave\n%q, want\n%q", size, text, rows, want)
				}
			}
		}
	}
}

// TestAnyDialectReadsBackEqual writes random tables of texts in random dialects and reads them in blocks of random sizes.
func TestAnyDialectReadsBackEqual(t *testing.T) {
	random := rand.New(rand.NewSource(12))
	for round := range 1500 {
		delimiter := []string{",", ";", "\t", "|", "||", "~|~", "=>", " "}[random.Intn(8)]
		d := Dialect{Delimiter: delimiter[0], Rest: delimiter[1:], Quote: "\"'"[random.Intn(2)], CR: random.Intn(3) == 0,
			Trim: random.Intn(3) == 0 && delimiter != " "}
		if random.Intn(3) == 0 {
			d.Escape = '\\'
		}
		if random.Intn(4) == 0 {
			d.Comment = '#'
		}
		width := 2 + random.Intn(4)
		lineEnds := []string{"\n", "\r\n"}
		if d.CR {
			lineEnds = append(lineEnds, "\r")
		}
		var text strings.Builder
		var want [][]string
		for range random.Intn(20) {
			if d.Comment != 0 && random.Intn(5) == 0 {
				text.WriteString("# a " + delimiter + " comment" + string(d.Quote) + lineEnds[random.Intn(len(lineEnds))])
			}
			var row []string
			for c := range width {
				if c > 0 {
					text.WriteString(delimiter)
				}
				row = append(row, writeField(random, &text, d, delimiter))
			}
			want = append(want, row)
			text.WriteString(lineEnds[random.Intn(len(lineEnds))])
		}
		rows, problems := read(t, Parser{Dialect: d, Width: width}, text.String(), 1+random.Intn(60))
		if len(problems) > 0 || len(rows)+len(want) > 0 && !reflect.DeepEqual(rows, want) {
			t.Fatalf("round %d, %+v: %q gave\n%q %q, want\n%q", round, d, text.String(), rows, problems, want)
		}
	}
}

// writeField writes one random field and returns what it must be read as.
func writeField(random *rand.Rand, w *strings.Builder, d Dialect, delimiter string) string {
	alphabet := []string{"a", "b", " ", "x", delimiter, string(d.Quote), "\n", "\r", "\\", "#", "é", "|", "="}
	var field strings.Builder
	for range random.Intn(7) {
		field.WriteString(alphabet[random.Intn(len(alphabet))])
	}
	value := field.String()
	plain := !strings.ContainsAny(value, delimiter+string(d.Quote)+"\r\n#\t ")
	if plain && (random.Intn(3) > 0 || value == "") && value != "" {
		w.WriteString(value)
		return value
	}
	quote := string(d.Quote)
	if d.Escape != 0 {
		w.WriteString(quote + strings.NewReplacer("\\", "\\\\", quote, "\\"+quote).Replace(value) + quote)
	} else {
		w.WriteString(quote + strings.ReplaceAll(value, quote, quote+quote) + quote)
	}
	return "q:" + value
}

func TestDialects(t *testing.T) {
	tests := []struct {
		name   string
		parser Parser
		text   string
		rows   string
	}{
		{"carriage returns alone", Parser{Dialect: Dialect{Delimiter: ',', Quote: '"', CR: true}}, "a,b\r\"c\rd\",e\rf,g",
			"[[a b] [q:c\rd e] [f g]]"},
		{"all line ends", Parser{Dialect: Dialect{Delimiter: ',', Quote: '"', CR: true}}, "a,b\rc,d\r\ne,f\ng,h\r\n",
			"[[a b] [c d] [e f] [g h]]"},
		{"two characters", Parser{Dialect: Dialect{Delimiter: '|', Rest: "|", Quote: '"'}}, "a|b||\"c||\"||\n||d||",
			"[[a|b q:c|| ] [ d ]]"},
		{"no quotes", Parser{Dialect: Dialect{Delimiter: ','}}, "\"a,b\"\n", "[[\"a b\"]]"},
		{"escapes", Parser{Dialect: Dialect{Delimiter: ',', Quote: '"', Escape: '\\'}}, "\"a\\\"b\\\\\",c\\,d\n", "[[q:a\"b\\ c\\ d]]"},
		{"trimmed", Parser{Dialect: Dialect{Delimiter: ',', Quote: '"', Trim: true}}, " a , \" b \" ,c\t\n  ,\n", "[[a q: b  c] [ ]]"},
		{"a header in the middle", Parser{Dialect: comma, Width: 2, Skip: 1, Header: "a,b"}, "a,b\n1,2\na,b\r\n3,4\na,bc\na,b",
			"[[1 2] [3 4] [a bc]]"},
	}
	for _, test := range tests {
		for size := 1; size < len(test.text)+2; size++ {
			if rows, problems := read(t, test.parser, test.text, size); fmt.Sprint(rows) != test.rows || len(problems) > 0 {
				t.Fatalf("%s, blocks of %d: %q, want %s; %q", test.name, size, rows, test.rows, problems)
			}
		}
	}
}

// TestSimpleDialectsAreCutTheSame compares the short way to the last whole record with the long one, which Trim has a dialect take.
func TestSimpleDialectsAreCutTheSame(t *testing.T) {
	random := rand.New(rand.NewSource(4))
	simple := Dialect{Delimiter: ',', Quote: '"'}
	short, r2 := 0, rand2.New(rand2.NewPCG(4, 4))
	for range 100_000 {
		text := make([]byte, random.Intn([]int{60, 60, 400}[random.Intn(3)]))
		for i := range text {
			text[i] = "aab,,\n\n\"\""[random.Intn(9)]
		}
		if len(text) > 100 {
			// In long texts quotes stand otherwise too often.
			text = randomText(r2, 1+random.Intn(5), 60)
		}
		got, lines := simple.cutSimple(text)
		if got == 0 {
			continue
		}
		if want := simple.Lines(text[:got]); lines != want {
			t.Fatalf("%q has %d lines up to %d, want %d", text, lines, got, want)
		}
		short++
		long := simple
		long.Trim = true // there are no blanks to leave out
		if want := long.Cut(text); got != want {
			t.Fatalf("%q is cut at %d, and the long way at %d", text, got, want)
		}
	}
	if short < 5_000 {
		t.Errorf("only %d texts were cut the short way", short)
	}
}

func TestTableHasTheRows(t *testing.T) {
	for width := range 3 {
		p := Parser{Dialect: Dialect{Delimiter: ',', Quote: '"'}, Width: width}
		var r Records
		p.Parse(&parse.Block{Data: []byte("a,\"b \"\"c\"\"\"\nd,e\n,\"\"\nf,g,h\n"), Line: 1}, &r)
		for row, fields := range r.Table() {
			if !reflect.DeepEqual(fields, r.Row(row)) {
				t.Errorf("width %d: row %d of the table is %v, by itself %v", width, row, fields, r.Row(row))
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"a,b\n\"c\"\"\nd\",e\n", "\"", "\"a\"x,\"b\n", "#x\n,\r\n\"\",\n", ",,,\n\n\n,", "a\"b\"\n\"c",
		"\ufeff\"a\",b"} {
		f.Add(seed, byte(','), 3)
	}
	f.Fuzz(func(t *testing.T, text string, delimiter byte, size int) {
		if delimiter == '\n' || delimiter == '\r' || delimiter == '"' || delimiter == '#' || size < 1 || size > 1<<16 ||
			len(text) > 1<<10 {
			t.Skip()
		}
		for _, p := range []Parser{{Dialect: Dialect{Delimiter: delimiter, Quote: '"', Comment: '#'}},
			{Dialect: Dialect{Delimiter: delimiter}, Width: 2, Pad: true},
			{Dialect: Dialect{Delimiter: delimiter, Rest: "+", Quote: '"', CR: true}},
			{Dialect: Dialect{Delimiter: delimiter, Quote: '"', Escape: '\\'}},
			{Dialect: Dialect{Delimiter: delimiter, Quote: '"', Trim: delimiter != ' '}}} {
			rows, problems := read(t, p, text, size)
			whole, wholeProblems := read(t, p, text, 1<<20)
			if !reflect.DeepEqual(rows, whole) || !reflect.DeepEqual(problems, wholeProblems) {
				t.Fatalf("blocks of %d give %q %q, the whole gives %q %q", size, rows, problems, whole, wholeProblems)
			}
		}
	})
}

func BenchmarkParse(b *testing.B) {
	line := "100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,2026-03-04,3.250,1003.21,9.4,true,\"hull fouled, cleaned\",77\n"
	for name, text := range map[string]string{
		"readings": strings.Repeat(line, 10000),
		"wide":     strings.Repeat(strings.Repeat("123,45.678,Cairn Bay,,", 50)+"\n", 1000),
	} {
		b.Run(name, func(b *testing.B) {
			block := parse.Block{Data: []byte(text), Line: 1}
			p := Parser{Dialect: comma, Width: strings.Count(text[:strings.IndexByte(text, '\n')], ",") + 1}
			if name == "readings" {
				p.Width = 12
			}
			var r Records
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				p.Parse(&block, &r)
			}
			if len(r.Problems) > 0 {
				b.Fatal(r.Problems[0])
			}
		})
	}
}

func BenchmarkCut(b *testing.B) {
	text := []byte(strings.Repeat("100001,OS-0042,Cairn Bay,wave,2026-03-04T05:06:07Z,9.4,true,\"hull fouled, cleaned\",77\n", 10000) +
		"x")
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		comma.Cut(text)
	}
}
