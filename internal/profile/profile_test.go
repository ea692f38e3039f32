package profile

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

// profiled profiles rows of JSON under a schema.
func profiled(t *testing.T, s schema.Schema, batches ...string) []Column {
	t.Helper()
	s.AssignIDs()
	rows := New(s)
	for _, text := range batches {
		batch, _, err := array.RecordFromJSON(memory.DefaultAllocator, s.Arrow(), strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		rows.Add(batch)
		batch.Release()
	}
	return rows.Columns()
}

func field(name string, kind schema.Kind) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: kind}}
}

func TestNestedColumns(t *testing.T) {
	position := schema.Field{Name: "position", Type: schema.Type{Kind: schema.Struct, Fields: []schema.Field{field("lat", schema.Double)}}}
	tag := field("element", schema.String)
	tags := schema.Field{Name: "tags", Type: schema.Type{Kind: schema.List, Element: &tag}}
	got := profiled(t, schema.Schema{Fields: []schema.Field{field("area", schema.String), position, tags, field("day", schema.Date)}},
		`[{"area":"Cairn Bay","position":{"lat":57.5},"tags":["a","b"],"day":"2031-05-01"},{"area":null,"position":null,"tags":[],"day":null}]`,
		`[{"area":"Cairn Bay","position":{"lat":58.5},"tags":["a"],"day":"2031-05-03"}]`)
	want := `area 2 1 [{Cairn Bay 2}] true []|position.lat 2 0 [{57.5 1} {58.5 1}] true [{57.5 57.5625 1} {58.5 58.5 1}]|` +
		`tags.element 3 0 [{a 2} {b 1}] true []|day 2 1 [{2031-05-01 1} {2031-05-03 1}] true [{2031-05-01 2031-05-02 1} {2031-05-03 2031-05-03 1}]`
	var texts []string
	for _, c := range got {
		bins := slices.DeleteFunc(c.Bins, func(b Bin) bool { return b.Count == 0 })
		texts = append(texts, fmt.Sprint(c.Path, " ", c.Values, " ", c.Nulls, " ", c.Common, " ", c.All, " ", bins))
	}
	if text := strings.Join(texts, "|"); text != want {
		t.Errorf("got  %s\nwant %s", text, want)
	}
}

// TestSpreadsCountEverything holds that no number is lost, wherever they lie, and that each lies in its bin.
func TestSpreadsCountEverything(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for round := range 300 {
		s := &spread{whole: round%2 == 0}
		n, scale := 1+random.IntN(5000), math.Pow(10, float64(random.IntN(20)-5))
		var values []float64
		for range n {
			v := random.NormFloat64() * scale * math.Pow(10, float64(random.IntN(1+round%4)))
			if s.whole {
				v = math.Trunc(v)
			}
			values = append(values, v)
			s.add(v)
		}
		bins := s.bins(schema.Type{Kind: schema.Double})
		total := int64(0)
		for _, b := range bins {
			total += b.Count
		}
		if total != int64(n) || len(bins) > shownBins || len(bins) == 0 {
			t.Fatalf("round %d: %d of %d values in %d bins", round, total, n, len(bins))
		}
		if s.least != slices.Min(values) || s.most != slices.Max(values) {
			t.Fatalf("round %d: from %v to %v, want %v to %v", round, s.least, s.most, slices.Min(values), slices.Max(values))
		}
		for i, n := range s.counts {
			low, high, inside := s.low+float64(i)*s.width, s.low+float64(i+1)*s.width, int64(0)
			for _, v := range values {
				if v >= low && v < high {
					inside++
				}
			}
			// Sums of widths round, so a value at an edge may lie in either range.
			if math.Abs(float64(inside-n)) > 2 {
				t.Fatalf("round %d: range %d from %v to %v counts %d, not %d", round, i, low, high, n, inside)
			}
		}
	}
}

// TestCommonTextsAmongMany holds that what is often there is told, however many others there are, in bounded room.
func TestCommonTextsAmongMany(t *testing.T) {
	texts := tally{counts: map[string]*counter{}}
	const n = 200_000
	for i := range n {
		text := fmt.Sprint("code ", i)
		if i%10 == 3 {
			text = "calm"
		}
		texts.add([]byte(text))
		if len(texts.counts) > 3*roundLength {
			t.Fatalf("%d texts are kept", len(texts.counts))
		}
	}
	common, all, unseen := texts.commonest(3)
	if all || unseen == 0 || common[0].Text != "calm" || common[0].Count > n/10 || common[0].Count < n/10-unseen {
		t.Errorf("%v, %v, %d", common, all, unseen)
	}
}

func TestFewTextsAreAllTold(t *testing.T) {
	texts := tally{counts: map[string]*counter{}}
	for i := range 50_000 {
		texts.add([]byte([]string{"a", "b", "b", "c"}[i%4]))
	}
	if common, all, unseen := texts.commonest(5); !all || unseen != 0 || fmt.Sprint(common) != "[{b 25000} {a 12500} {c 12500}]" {
		t.Errorf("%v, %v, %d", common, all, unseen)
	}
}
