package lexical

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// agreesWithTheRest reads a text by its digits and by what reads values otherwise.
func agreesWithTheRest(t *testing.T, text string, scale int) {
	t.Helper()
	if len(text) == 0 || len(text) > 8 {
		return
	}
	d := NewDigits(scale)
	v, ok := d.Parse(ShortKey([]byte(text)), len(text))
	if !ok {
		return
	}
	double, _ := d.Double(ShortKey([]byte(text)), len(text))
	if scale == 0 {
		if want, ok := Long([]byte(text)); !ok || want != v {
			t.Errorf("%q is %d by its digits, and %d %v otherwise", text, v, want, ok)
		}
	} else if want, ok := Double([]byte(text)); !ok || want != double {
		t.Errorf("%q is %d by its digits, and %v %v otherwise", text, v, want, ok)
	}
}

func TestDigits(t *testing.T) {
	for _, text := range []string{"0", "7", "-7", "12345678", "-1234567", "99999999"} {
		d := NewDigits(0)
		if _, ok := d.Parse(ShortKey([]byte(text)), len(text)); !ok {
			t.Errorf("%q is not read by its digits", text)
		}
	}
	random := rand.New(rand.NewPCG(1, 1))
	for range 200_000 {
		text := make([]byte, 1+random.IntN(8))
		for i := range text {
			text[i] = "0123456789012345678901234567890123456789.-+/:e\x00\xff"[random.IntN(48)]
		}
		agreesWithTheRest(t, string(text), random.IntN(8))
	}
	for range 50_000 {
		scale := random.IntN(5)
		text := fmt.Sprintf("%.*f", scale, random.Float64()*500-250)
		agreesWithTheRest(t, text, scale)
		if d := NewDigits(scale); len(text) <= 8 && strings.Trim(text, "-0.") != "" {
			if _, ok := d.Parse(ShortKey([]byte(text)), len(text)); !ok {
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
		if scale >= 0 && scale < 8 {
			agreesWithTheRest(t, text, scale)
		}
	})
}
