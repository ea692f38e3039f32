package fit

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"

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
	odd := []string{"", `""`, "n/a", "-0", "007", "+5", "1e3", ".5", "5.", "-", "NaN", "x", `"12"`, "  1", strings.Repeat("9", 20),
		"2031-02-30"}
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
			if (a.Batch == nil) != (b.Batch == nil) || !reflect.DeepEqual(a.Problems, b.Problems) ||
				!reflect.DeepEqual(a.Misfits, b.Misfits) || !reflect.DeepEqual(a.Tokens, b.Tokens) {
				t.Fatalf("seed %d, block %d: problems, misfits or tokens differ: %v %v %v and %v %v %v", seed, block, a.Problems,
					a.Misfits, a.Tokens, b.Problems, b.Misfits, b.Tokens)
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
						t.Fatalf("seed %d, block %d: %s %s of row %d is %q numbered and %q plain", seed, block, fields[i].Type,
							fields[i].Name, row, x[row], y[row])
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
	fresh, reusing := NewJSON(s, UnknownKept, false, false), NewJSON(s, UnknownKept, false, false)
	random := rand.New(rand.NewPCG(7, 7))
	texts := []string{
		`{"id":1,"position":{"lat":1.5,"lon":2.5},"readings":[{"value":1},{"value":null}],"note":"calm","ok":true}`,
		`{"id":2,"position":null,"readings":[],"ok":false}`, `{"id":3,"position":{"lat":null},"readings":null,"note":"swell","more":1}`,
		`{"id":`, `{}`,
	}
	for block := range 50 {
		var text strings.Builder
		for range random.IntN(20) {
			text.WriteString(texts[random.IntN(len(texts))] + "\n")
		}
		fit := func(j *JSON) Result { return j.Fit(jsonRecords(text.String())) }
		a, b := fit(fresh), fit(reusing)
		if show(a.Batch) != show(b.Batch) || !reflect.DeepEqual(a.Present, b.Present) || !reflect.DeepEqual(a.Longest, b.Longest) ||
			len(a.Problems) != len(b.Problems) {
			t.Fatalf("block %d: in fresh memory %s, in reused memory %s", block, show(a.Batch), show(b.Batch))
		}
		b.Done()
		b.Done()
	}
}

// TestNumberedJSONGivesTheSameValues fits the same records with texts numbered and without, in reused memory.
func TestNumberedJSONGivesTheSameValues(t *testing.T) {
	label := field(schema.ElementName, schema.String)
	element := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Struct,
		Fields: []schema.Field{field("sensor", schema.String), field("value", schema.Double)}}}
	must := field("must", schema.String)
	must.Required = true
	s := schema.Schema{Fields: []schema.Field{must, field("note", schema.String), field("many", schema.String),
		{Name: "readings", Type: schema.Type{Kind: schema.List, Element: &element}},
		{Name: "labels", Type: schema.Type{Kind: schema.List, Element: &label}}}}
	random := rand.New(rand.NewPCG(8, 8))
	texts := []string{`"calm"`, `""`, `"é"`, `"drift \"north\""`, `"a swell from the west that lasts"`, `"the bank"`, `null`, `12`,
		`"\u0041"`, `{"a":1}`}
	pick := func() string { return texts[random.IntN(len(texts))] }
	plain, coded := NewJSON(s, UnknownKept, false, false), NewJSON(s, UnknownKept, false, true)
	dictionaries := 0
	for block := range 60 {
		var text strings.Builder
		for range 40 {
			fmt.Fprintf(&text, `{"must":%s,"note":%s,"many":"%d","readings":[{"sensor":%s,"value":%d.5},{"value":null}],"labels":[%s,%s]}`+"\n",
				pick(), pick(), random.IntN(1<<30), pick(), random.IntN(10), pick(), pick())
		}
		a, b := plain.Fit(jsonRecords(text.String())), coded.Fit(jsonRecords(text.String()))
		if !reflect.DeepEqual(a.Problems, b.Problems) || !reflect.DeepEqual(a.Misfits, b.Misfits) ||
			a.Batch.NumRows() != b.Batch.NumRows() {
			t.Fatalf("block %d: problems or misfits differ: %v and %v", block, a.Problems, b.Problems)
		}
		for i := range s.Fields {
			if x, y := fmt.Sprint(unfolded(a.Batch.Column(i))), fmt.Sprint(unfolded(b.Batch.Column(i))); x != y {
				t.Fatalf("block %d: %s is\n%s\nnumbered, and plain\n%s", block, s.Fields[i].Name, y, x)
			}
		}
		if _, ok := b.Batch.Column(0).(*array.Dictionary); ok {
			dictionaries++
		}
		if _, ok := b.Batch.Column(2).(*array.Dictionary); ok && block == 59 {
			t.Error("texts that never repeat are still numbered")
		}
		b.Done()
	}
	if dictionaries != 60 {
		t.Errorf("texts that repeat were numbered in %d of 60 batches", dictionaries)
	}
}

// unfolded writes a column with its dictionaries undone.
func unfolded(a arrow.Array) (out []string) {
	switch a := a.(type) {
	case *array.Struct:
		for i := range a.NumField() {
			out = append(out, unfolded(a.Field(i))...)
		}
	case *array.List:
		return append(unfolded(a.ListValues()), fmt.Sprint(a.Offsets()))
	default:
		out = valuesOf(a)
	}
	return append(out, fmt.Sprint(a.NullN()))
}

// TestSpacedJSONGivesTheSameValues fits records as they are usually written, and with white space between all parts.
func TestSpacedJSONGivesTheSameValues(t *testing.T) {
	fields := append(nested(), field("note", schema.String), field("ok", schema.Boolean), field("at", schema.TimestampTz),
		field("depth", schema.Double))
	values := map[string][]string{
		"id": {"1", "-20", "123456789012", "null", "1.5", `"7"`}, "note": {`"calm"`, `""`, `"a \"quote\""`, "null", "12", `["x"]`},
		"ok": {"true", "false", "null", `"true"`}, "at": {`"2031-05-01T10:20:30Z"`, `"2031-05-01"`, "null", "5"},
		"depth": {"1.25", "-0.5", "3", "1e3", "00", "null", `"deep"`},
		"list":  {`[{"s":"a","v":1}]`, "[]", "null", `{"v":2}`, `[{"v":true}]`}, "pos": {`{"lat":1.5,"lon":-2}`, "{}", "null", "3"},
	}
	random := rand.New(rand.NewPCG(12, 4))
	spaced := strings.NewReplacer("{", "{  ", "}", "  }", `":`, `" :  `, ",", "  ,  ", "[", "[  ", "]", "  ]")
	for round := range 3000 {
		var parts []string
		for _, name := range []string{"id", "pos", "list", "note", "ok", "at", "depth"} {
			if random.IntN(5) > 0 {
				parts = append(parts, fmt.Sprintf("%q:%s", name, values[name][random.IntN(len(values[name]))]))
			}
		}
		text := "{" + strings.Join(parts, ",") + "}"
		a, b := fitValues(text, UnknownKept, fields...), fitValues(spaced.Replace(text), UnknownKept, fields...)
		if (a.Batch == nil) != (b.Batch == nil) || len(a.Problems) != len(b.Problems) || len(a.Misfits) != len(b.Misfits) {
			t.Fatalf("round %d, %s: %d problems and %d misfits, %d and %d with white space", round, text, len(a.Problems), len(a.Misfits),
				len(b.Problems), len(b.Misfits))
		}
		if a.Batch != nil && !strings.Contains(text, `["x"]`) && show(a.Batch) != show(b.Batch) {
			t.Fatalf("round %d, %s: %s, with white space %s", round, text, show(a.Batch), show(b.Batch))
		}
	}
}
