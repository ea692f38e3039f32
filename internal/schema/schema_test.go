package schema

import (
	"fmt"
	"math/rand"
	"reflect"
	"strings"
	"testing"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
)

func TestSafeNames(t *testing.T) {
	tests := []struct{ raw, want []string }{
		{[]string{"id", "Buoy Code", "wave height (m)"}, []string{"id", "Buoy_Code", "wave_height_m"}},
		{[]string{"2031", "%", "", " x "}, []string{"_2031", "c2", "c3", "x"}},
		{[]string{"a b", "a_b", "A-B"}, []string{"a_b_2", "a_b", "A_B_3"}},
		{[]string{"Tiefe (ü)", "日付", "a__b", "a - b"}, []string{"Tiefe_ü", "日付", "a__b", "a_b"}},
	}
	for _, test := range tests {
		if got := SafeNames.Make(test.raw); !reflect.DeepEqual(got, test.want) {
			t.Errorf("%q: %q, want %q", test.raw, got, test.want)
		}
	}
}

func FuzzSafeNames(f *testing.F) {
	f.Add("a b\na_b\nA_B")
	f.Add("\n1\n_1\n(")
	f.Fuzz(func(t *testing.T, text string) {
		seen := map[string]bool{}
		for _, name := range SafeNames.Make(strings.Split(text, "\n")) {
			if folded := strings.ToLower(name); name == "" || seen[folded] || name[0] >= '0' && name[0] <= '9' {
				t.Fatalf("%q gives the name %q", text, name)
			} else {
				seen[folded] = true
			}
			if strings.ContainsAny(name, " ./%\"'()-=") {
				t.Fatalf("%q gives the name %q", text, name)
			}
		}
	})
}

func TestSketch(t *testing.T) {
	for _, n := range []int{0, 1, 48, 49, 1000, 50000, 1000000} {
		var s Sketch
		for i := range n {
			s.Add([]byte(fmt.Sprint("value ", i)))
			s.Add([]byte(fmt.Sprint("value ", i/2)))
		}
		got, exact := s.Estimate()
		if exact != (n <= exactUpTo) || exact && got != int64(n) || float64(got) < 0.94*float64(n) || float64(got) > 1.06*float64(n) {
			t.Errorf("%d different: %d, exact %v", n, got, exact)
		}
	}
}

// observeDelimited gives the records of a text to some workers, a block each in turn, and merges what they saw in a given order.
func observeDelimited(text string, blockBytes, workers int, order []int) *Observed {
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 3}
	seen := make([]*Observed, workers)
	for i := range seen {
		seen[i] = &Observed{}
	}
	var r delimited.Records
	offset, line := 0, int64(1)
	for n := 0; offset < len(text); n++ {
		end := min(len(text), offset+blockBytes)
		if cut := p.Dialect.Cut([]byte(text[offset:end])); cut > 0 {
			end = offset + cut
		} else {
			end = len(text)
		}
		b := parse.Block{Index: n, Offset: int64(offset), Line: line, Data: []byte(text[offset:end])}
		p.Parse(&b, &r)
		seen[n%workers].Delimited(&r, []string{"a", "b", "c"})
		line += int64(strings.Count(text[offset:end], "\n"))
		offset = end
	}
	total := &Observed{}
	for _, i := range order {
		total.Merge(seen[i])
	}
	total.Root.Order()
	return total
}

func summary(o *Observed) string {
	var b strings.Builder
	for _, n := range o.Root.Fields {
		low, high := n.Range(Resolve(n.Seen), nil)
		distinct, _ := n.Distinct.Estimate()
		fmt.Fprint(&b, n.Name, Resolve(n.Seen), n.Counts, n.first, low, high, distinct, n.Longest, "\n")
	}
	return b.String()
}

func TestEvidenceDoesNotDependOnWhoSawWhat(t *testing.T) {
	random := rand.New(rand.NewSource(3))
	values := []string{"", "1", "2.5", "2.50", "x", "\"\"", "true", "2031-05-01", "\"a\nb\"", "9007199254740993", "über", "-7"}
	var b strings.Builder
	for range 400 {
		fmt.Fprintf(&b, "%s,%s,%s\n", values[random.Intn(len(values))], values[random.Intn(3)], values[random.Intn(2)])
	}
	want := summary(observeDelimited(b.String(), 1<<20, 1, []int{0}))
	for _, blockBytes := range []int{20, 100, 999} {
		for _, order := range [][]int{{0, 1, 2}, {2, 0, 1}, {1, 2, 0}} {
			if got := summary(observeDelimited(b.String(), blockBytes, 3, order)); got != want {
				t.Fatalf("blocks of %d merged in the order %v:\n%s\nwant\n%s", blockBytes, order, got, want)
			}
		}
	}
}

func TestForced(t *testing.T) {
	o := observeDelimited("1,x,\n2,1,\n2.5,2,\n3,3,\n", 1<<20, 1, []int{0})
	for i, want := range []string{"double at line 3", "text at line 1"} {
		n := o.Root.Fields[i]
		class, ok := Forced(n.Seen, n.First)
		if got := fmt.Sprintf("%s at line %d", class, n.First(class).Line); !ok || got != want {
			t.Errorf("%s: %s, want %s", n.Name, got, want)
		}
	}
	if _, ok := Forced(ClassNull, nil); ok {
		t.Error("a column of nulls was forced by something")
	}
}

func observeJSON(text string) *Observed {
	var r json.Records
	o := &Observed{}
	r.Parse(&parse.Block{Data: []byte(text), Line: 1})
	o.JSON(&r)
	return o
}

func TestSettleJSON(t *testing.T) {
	o := observeJSON(`{"id":1,"at":"2031-05-01T00:00:00Z","pos":{"lat":1,"the lon":2.5},"tags":["a"],"empty":[],"none":null,"mixed":1,"nothing":{}}
{"id":2,"more":true,"tags":[],"mixed":{"a":1},"pos":{"lat":"x"},"lists":[[1],[null]],"code":"007","day":"2031-05-01"}`)
	s, unused := o.Settle(Corrections{Types: map[string]Stated{"id": {Type: Type{Kind: Int}}, "pos.the lon": {Type: Type{Kind: String}},
		"absent": {Type: Type{Kind: Long}}}})
	var got []string
	for _, f := range s.Fields {
		got = append(got, f.Name+" "+f.Type.String())
	}
	want := "id int|at timestamptz|pos struct<lat: string, the_lon: string>|tags list<string>|empty list<string>|none string|mixed " +
		"string|nothing string|" +
		"more boolean|lists list<list<long>>|code string|day date"
	if strings.Join(got, "|") != want {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "|"), want)
	}
	if len(unused) != 1 || unused[0].Name != "absent" {
		t.Errorf("unused pins: %v", unused)
	}
	if !s.Fields[5].Unseen || !s.Fields[4].Type.Element.Unseen || s.Fields[6].Unseen || !s.Fields[0].Pinned ||
		s.Fields[2].Type.Fields[1].Origin != "the lon" {
		t.Errorf("%+v", s.Fields)
	}
	nulls := o.Root.Counts[ClassObject.Index()] - o.Root.Field("more").Evidence.Values()
	if nulls != 1 {
		t.Errorf("an absent key counts as %d nulls", nulls)
	}
}

func TestJSONProblemsHavePlaces(t *testing.T) {
	o := observeJSON("{\"a\":1}\n[1]\n{\"a\":2,\"a\":3}\n{\"a\":\xff}\n{\"a\":4}")
	if o.Problems != 3 || o.Problem.Place.Line != 2 || !strings.Contains(o.Problem.Problem.Reason, "this is an array") {
		t.Errorf("%d problems, the first: %+v", o.Problems, o.Problem)
	}
}

func TestAssignIDs(t *testing.T) {
	value := Field{Name: "value", Type: Type{Kind: Struct, Fields: []Field{{Name: "x", Type: Type{Kind: Long}}}}}
	s := Schema{Fields: []Field{
		{Name: "a", Type: Type{Kind: Struct, Fields: []Field{{Name: "b", Type: Type{Kind: Long}}}}},
		{Name: "m", Type: Type{Kind: Map, Key: &Field{Name: "key", Type: Type{Kind: String}, Required: true}, Element: &value}},
		{Name: "z", Type: Type{Kind: Long}},
	}}
	s.AssignIDs()
	var got []string
	s.Walk(func(path string, f *Field) { got = append(got, fmt.Sprint(path, "=", f.ID)) })
	if want := "a=1 a.b=2 m=3 m.key=4 m.value=5 m.value.x=6 z=7"; strings.Join(got, " ") != want {
		t.Errorf("%v, want %s", got, want)
	}
	back, err := FromArrow(s.Arrow())
	if err != nil || !reflect.DeepEqual(back.Fields[0].Type.Fields[0].ID, 2) ||
		back.Fields[1].Type.String() != s.Fields[1].Type.String() {
		t.Errorf("%+v, %v", back, err)
	}
}

func BenchmarkObserve(b *testing.B) {
	text := strings.Repeat("100001,OS-0042,Cairn Bay\n200.5,2031-05-01T01:02:03Z,true\n", 10000)
	block := parse.Block{Data: []byte(text), Line: 1}
	p := delimited.Parser{Dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, Width: 3}
	var r delimited.Records
	p.Parse(&block, &r)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		var o Observed
		o.Delimited(&r, []string{"a", "b", "c"})
	}
}

func block(text string) *parse.Block { return &parse.Block{Data: []byte(text), Line: 1} }
