package fit

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/schema"
)

// valuesOf writes the values of a column, whether they come with a dictionary or not.
func valuesOf(a arrow.Array) []string {
	out := make([]string, a.Len())
	for i := range out {
		d, coded := a.(*array.Dictionary)
		switch {
		case a.IsNull(i):
			out[i] = "null"
		case coded:
			out[i] = d.Dictionary().ValueStr(d.GetValueIndex(i))
		default:
			out[i] = a.ValueStr(i)
		}
	}
	return out
}

// pool returns texts that a column may hold, few or many, of all lengths.
func pool(random *rand.Rand, f schema.Field) []string {
	n := []int{3, 40, 5000}[random.IntN(3)]
	out := make([]string, n)
	for i := range out {
		switch f.Type.Kind {
		case schema.Long, schema.Int:
			out[i] = fmt.Sprint(random.IntN(2*n) - n)
		case schema.Double:
			out[i] = fmt.Sprintf("%.*f", 1+random.IntN(3), random.Float64()*float64(n)-float64(n)/2)
		case schema.Boolean:
			out[i] = []string{"true", "false", "TRUE"}[random.IntN(3)]
		case schema.Date:
			out[i] = fmt.Sprintf("20%02d-%02d-%02d", random.IntN(40), 1+random.IntN(12), 1+random.IntN(28))
		case schema.Timestamp:
			out[i] = fmt.Sprintf("2031-%02d-%02dT%02d:30:00", 1+random.IntN(12), 1+random.IntN(28), random.IntN(24))
		default:
			out[i] = []string{"", "\x00", "Skerry", "Inner Skerry å", "The long skerry beyond the bank"}[random.IntN(5)] + fmt.Sprint(i)
			if random.IntN(5) == 0 {
				out[i] = `"` + out[i] + ` says ""ho"""`
			}
		}
	}
	odd := []string{"", `""`, "n/a", "-0", "007", "+5", "1e3", ".5", "5.", "-", "NaN", "x", `"12"`, "  1", strings.Repeat("9", 20), "2031-02-30"}
	for i := range out {
		if random.IntN(400) == 0 {
			out[i] = odd[random.IntN(len(odd))]
		}
	}
	return out
}

// TestNumberedTextsGiveTheSameValues fits the same blocks with texts numbered and without, by workers that live on from block to block.
func TestNumberedTextsGiveTheSameValues(t *testing.T) {
	kinds := []schema.Kind{schema.String, schema.Long, schema.Int, schema.Double, schema.Boolean, schema.Date, schema.Timestamp}
	numbered := 0
	for seed := range uint64(25) {
		random := rand.New(rand.NewPCG(seed, 5))
		var fields []schema.Field
		var pools [][]string
		for i := range 8 {
			f := field(fmt.Sprint("c", i), kinds[random.IntN(len(kinds))])
			f.Pinned = random.IntN(3) == 0
			f.Held = !f.Pinned
			if random.IntN(2) == 0 {
				f.Notation.Nulls = []string{"n/a", "-"}
			}
			fields, pools = append(fields, f), append(pools, pool(random, f))
		}
		s := schema.Schema{Fields: fields}
		s.AssignIDs()
		coded, plain := NewDelimited(s, true), NewDelimited(s, false)
		for block := range 6 {
			var text strings.Builder
			for range 1000 {
				for i, p := range pools {
					if i > 0 {
						text.WriteByte(',')
					}
					if random.IntN(6) > 0 {
						text.WriteString(p[random.IntN(len(p))])
					}
				}
				text.WriteByte('\n')
			}
			parser := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: len(fields)}
			var records delimited.Records
			parser.Parse(&parse.Block{Data: []byte(text.String()), Line: 1}, &records)
			columns := []int{0, 1, 2, 3, 4, 5, 6, 7}
			a, b := coded.Fit(&records, columns, nil), plain.Fit(&records, columns, nil)
			if (a.Batch == nil) != (b.Batch == nil) || !reflect.DeepEqual(a.Problems, b.Problems) || !reflect.DeepEqual(a.Misfits, b.Misfits) || !reflect.DeepEqual(a.Tokens, b.Tokens) {
				t.Fatalf("seed %d, block %d: problems, misfits or tokens differ: %v %v and %v %v", seed, block, a.Problems, a.Tokens, b.Problems, b.Tokens)
			}
			if a.Batch == nil {
				break
			}
			for i := range fields {
				if _, ok := a.Batch.Column(i).(*array.Dictionary); ok {
					numbered++
				}
				x, y := valuesOf(a.Batch.Column(i)), valuesOf(b.Batch.Column(i))
				for row := range x {
					if x[row] != y[row] {
						t.Fatalf("seed %d, block %d: %s %s of row %d is %q numbered and %q plain", seed, block, fields[i].Type, fields[i].Name, row, x[row], y[row])
					}
				}
			}
			if seed%2 == 0 {
				a.Done()
				b.Done()
			}
		}
	}
	if numbered == 0 {
		t.Error("no column was numbered")
	}
}

// TestBatchesInReusedMemory fits blocks with and without giving batches back, so that nothing of one can be left in the next.
func TestBatchesInReusedMemory(t *testing.T) {
	fields := append(nested(), field("note", schema.String), field("ok", schema.Boolean))
	s := schema.Schema{Fields: fields}
	fresh, reusing := NewJSON(s, UnknownKept, false), NewJSON(s, UnknownKept, false)
	random := rand.New(rand.NewPCG(7, 7))
	texts := []string{
		`{"id":1,"position":{"lat":1.5,"lon":2.5},"readings":[{"value":1},{"value":null}],"note":"calm","ok":true}`,
		`{"id":2,"position":null,"readings":[],"ok":false}`, `{"id":3,"position":{"lat":null},"readings":null,"note":"swell","more":1}`, `{"id":`, `{}`,
	}
	for block := range 50 {
		var text strings.Builder
		for range random.IntN(20) {
			text.WriteString(texts[random.IntN(len(texts))] + "\n")
		}
		fit := func(j *JSON) Result { return j.Fit(jsonRecords(text.String())) }
		a, b := fit(fresh), fit(reusing)
		if show(a.Batch) != show(b.Batch) || !reflect.DeepEqual(a.Present, b.Present) || !reflect.DeepEqual(a.Longest, b.Longest) || len(a.Problems) != len(b.Problems) {
			t.Fatalf("block %d: in fresh memory %s, in reused memory %s", block, show(a.Batch), show(b.Batch))
		}
		b.Done()
		b.Done()
	}
}

// agreesWithLexical reads a text by its digits and by what reads values otherwise.
func agreesWithLexical(t *testing.T, text string, scale int) {
	t.Helper()
	if len(text) == 0 || len(text) > shortWord {
		return
	}
	d := newDigits(scale)
	v, ok := d.parse(shortKey([]byte(text)), len(text))
	if !ok {
		return
	}
	power := 1.0
	for range scale {
		power *= 10
	}
	if scale == 0 {
		if want, ok := lexical.Long([]byte(text)); !ok || want != v {
			t.Errorf("%q is %d by its digits, and %d %v otherwise", text, v, want, ok)
		}
	} else if want, ok := lexical.Double([]byte(text)); !ok || want != float64(v)/power {
		t.Errorf("%q is %d by its digits, and %v %v otherwise", text, v, want, ok)
	}
}

func TestDigits(t *testing.T) {
	for _, text := range []string{"0", "7", "-7", "12345678", "-1234567", "99999999"} {
		d := newDigits(0)
		if _, ok := d.parse(shortKey([]byte(text)), len(text)); !ok {
			t.Errorf("%q is not read by its digits", text)
		}
	}
	random := rand.New(rand.NewPCG(1, 1))
	for range 200_000 {
		text := make([]byte, 1+random.IntN(8))
		for i := range text {
			text[i] = "0123456789012345678901234567890123456789.-+/:e\x00\xff"[random.IntN(48)]
		}
		agreesWithLexical(t, string(text), random.IntN(8))
	}
	for range 50_000 {
		scale := random.IntN(5)
		text := fmt.Sprintf("%.*f", scale, random.Float64()*500-250)
		agreesWithLexical(t, text, scale)
		if d := newDigits(scale); len(text) <= shortWord && strings.Trim(text, "-0.") != "" {
			if _, ok := d.parse(shortKey([]byte(text)), len(text)); !ok {
				t.Fatalf("%q is not read by its digits", text)
			}
		}
	}
}

func FuzzDigits(f *testing.F) {
	f.Add("12.5", 1)
	f.Add("-0.001", 3)
	f.Add("00000000", 0)
	f.Fuzz(func(t *testing.T, text string, scale int) {
		if scale >= 0 && scale < shortWord {
			agreesWithLexical(t, text, scale)
		}
	})
}
