package json

import (
	"context"
	"fmt"
	"io"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"trevak/internal/parse"
)

// readValues cuts text into blocks of a given size and returns the texts of all values, with their lines.
func readValues(t testing.TB, r io.Reader, limits parse.Limits) (out []string) {
	t.Helper()
	limits.RecordBytes = 1 << 20
	alloc := func(n int) ([]byte, error) { return make([]byte, 0, n), nil }
	var records Records
	err := parse.Blocks(context.Background(), r, Values{}, limits, alloc, func(b parse.Block) error {
		records.ParseValues(&b)
		for row := range records.Rows() {
			start, _ := records.Span(row)
			out = append(out, fmt.Sprintf("%d@%d:%s", b.LineAt(start), b.Offset+int64(start), records.Text(row)))
		}
		for _, p := range records.Problems {
			out = append(out, string(p.Code))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestValues(t *testing.T) {
	tests := []struct{ text, want string }{
		{"{\"a\":1}\n{\n \"b\": [1,\n2]\n} {\"c\":\"}\\\"{\\\\\"}",
			"1@0:{\"a\":1} 2@8:{\n \"b\": [1,\n2]\n} 5@25:{\"c\":\"}\\\"{\\\\\"}"},
		{" 1, \"x,y\" ,null,[[]],{} ", "1@1:1 1@4:\"x,y\" 1@11:null 1@16:[[]] 1@21:{}"},
		{"{\"a\":[}\n{\"b\":1}", "1@0:{\"a\":[}\n{\"b\":1}"},
		{"", ""},
	}
	for _, test := range tests {
		for size := 1; size < len(test.text)+2; size++ {
			got := readValues(t, strings.NewReader(test.text), parse.Limits{BlockBytes: size})
			if strings.Join(got, " ") != test.want {
				t.Fatalf("blocks of %d: %q, want %q", size, got, test.want)
			}
		}
	}
	if got := readValues(t, strings.NewReader("{\"a\":\"\xff\"} {\"b\":1}"),
		parse.Limits{BlockBytes: 100}); fmt.Sprint(got) != `[1@10:{"b":1} not-utf-8]` {
		t.Errorf("%q", got)
	}
}

// FuzzValues checks that blocks of any size give the same values, and that reading the inside of an array never fails in another way
// than with an error.
func FuzzValues(f *testing.F) {
	for _, seed := range []string{`{"a":1} {"b":"x\"}"}`, `[1,2]`, `{"a":[`, `"\\" 5 null`, `}{`, "{\"a\":{\"b\":[{}, {}]}}"} {
		f.Add(seed, 3)
	}
	f.Fuzz(func(t *testing.T, text string, size int) {
		if size < 1 || size > 1000 || len(text) > 1000 {
			t.Skip()
		}
		got := readValues(t, strings.NewReader(text), parse.Limits{BlockBytes: size})
		want := readValues(t, strings.NewReader(text), parse.Limits{BlockBytes: 1 << 16})
		// Problems stand behind the values of their block.
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Fatalf("blocks of %d give %q, the whole gives %q", size, got, want)
		}
	})
}

func BenchmarkValues(b *testing.B) {
	random := rand.New(rand.NewSource(1))
	var text strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&text, "  {\n    \"id\": %d, \"buoy\": {\"code\": \"OS-%04d\", \"lat\": %.5f},\n    \"list\": [{\"s\": "+
			"\"depth\", \"v\": %.3f}]\n  },\n", i, i%600, random.Float64(), random.Float64())
	}
	block := parse.Block{Data: []byte(text.String()), Line: 1}
	var r Records
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		r.ParseValues(&block)
	}
}
