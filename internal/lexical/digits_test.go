package lexical

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// agreesWithTheRest reads a text of up to eight bytes at once and by what reads values otherwise, and reports whether it was
// read at once.
func agreesWithTheRest(t *testing.T, text string) bool {
	t.Helper()
	v, scale, ok := Number(ShortKey([]byte(text)), len(text))
	if !ok {
		return false
	}
	if scale == 0 {
		if want, ok := Long([]byte(text)); !ok || want != v {
			t.Errorf("%q is %d by its digits, and %d %v otherwise", text, v, want, ok)
		}
	}
	if want, ok := Double([]byte(text)); !ok || want != float64(v)/Units[scale] {
		t.Errorf("%q is %d / %v by its digits, and %v %v otherwise", text, v, Units[scale], want, ok)
	}
	return true
}

func TestNumbersOfEightBytes(t *testing.T) {
	for _, text := range []string{"0", "7", "-7", "12345678", "-1234567", "99999999", "0.5", "-0.5", "0.000001", "-12.3456", "-0.001",
		"10.0"} {
		if !agreesWithTheRest(t, text) {
			t.Errorf("%q is not read by its digits", text)
		}
	}
	for _, text := range []string{"", "-", ".", "-.", "00", "-0", "-0.0", "007", "00.5", ".5", "5.", "-5.", "+5", "1.2.3", "1e3", "1-2",
		" 1", "1 ", "1.5f", "/1", ":1", "1\xae5"} {
		if agreesWithTheRest(t, text) {
			t.Errorf("%q is read by its digits", text)
		}
	}
	random := rand.New(rand.NewPCG(1, 1))
	for range 400_000 {
		text := make([]byte, random.IntN(9))
		for i := range text {
			text[i] = "0123456789012345678901234567890123456789.-+/:e\x00\xff"[random.IntN(48)]
		}
		agreesWithTheRest(t, string(text))
	}
	for range 50_000 {
		text := fmt.Sprintf("%.*f", random.IntN(5), random.Float64()*500-250)
		if read := len(text) <= 8 && agreesWithTheRest(t, text); len(text) <= 8 && !read && float64OfText(text) != 0 {
			t.Fatalf("%q is not read by its digits", text)
		}
	}
}

func float64OfText(text string) float64 { v, _ := Double([]byte(text)); return v }

// TestNumbersTogether reads many texts at once and one by one.
func TestNumbersTogether(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	var keys, sizes [Together]uint64
	var values, scales [Together]int64
	for range 5000 {
		n := random.IntN(Together + 1)
		texts := make([]string, n)
		for i := range n {
			text := fmt.Sprintf("%.*f", random.IntN(4), random.Float64()*200-100)
			text = text[:min(8, len(text))]
			switch random.IntN(6) {
			case 0:
				text = text[:random.IntN(len(text))]
			case 1:
				odd := []byte(text)
				odd[random.IntN(len(odd))] = "0.-+x\x00\xff:/"[random.IntN(9)]
				text = string(odd)
			}
			texts[i], keys[i], sizes[i] = text, ShortKey([]byte(text)), uint64(len(text))
		}
		read := Numbers(&values, &scales, &keys, &sizes, n)
		if n < Together && read>>n != 0 {
			t.Fatalf("of %d texts, those read are %b", n, read)
		}
		var values2, scales2 [Together]int64
		if read2 := numbersOneByOne(&values2, &scales2, &keys, &sizes, n); read2 != read {
			t.Fatalf("of %q, those read are %b together and %b one by one", texts, read, read2)
		}
		for i := range n {
			if read>>i&1 != 0 && (values2[i] != values[i] || scales2[i] != scales[i]) || texts[i] == "" &&
				(values[i] != 0 || values2[i] != 0) {
				t.Fatalf("%q is %d together and %d one by one", texts[i], values[i], values2[i])
			}
			v, scale, ok := Number(keys[i], int(sizes[i]))
			if ok != (read>>i&1 != 0) || ok && (v != values[i] || scale != int(scales[i])) {
				t.Fatalf("%q is %d with %d digits behind the point, %v; alone %d with %d, %v", texts[i], values[i], scales[i], read>>i&1,
					v, scale, ok)
			}
		}
	}
}

func FuzzNumber(f *testing.F) {
	for _, text := range []string{"12.5", "-0.001", "00000000", "5.", "-", "1.2.3"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) <= 8 {
			agreesWithTheRest(t, text)
		}
	})
}

func BenchmarkNumbers(b *testing.B) {
	random := rand.New(rand.NewPCG(1, 1))
	var keys, sizes [Together]uint64
	var values, scales [Together]int64
	for i := range keys {
		text := fmt.Sprintf("%.3f", random.Float64()*500-250)
		keys[i], sizes[i] = ShortKey([]byte(text)), uint64(len(text))
	}
	b.SetBytes(Together)
	for b.Loop() {
		Numbers(&values, &scales, &keys, &sizes, Together)
	}
}
