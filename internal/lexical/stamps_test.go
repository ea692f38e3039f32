package lexical

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
)

// holdTimestamps reads texts together, by the processor's instructions and without, and holds what comes out against Timestamp.
func holdTimestamps(t *testing.T, texts []string, zoned bool) (read uint64) {
	t.Helper()
	var places [Together]Place
	var data []byte
	for i, text := range texts {
		places[i] = Place{uint32(len(data)), uint32(len(text))}
		data = append(data, text...)
		data = append(data, ',')
	}
	data = append(data, "the end of the block"...)
	var values, plain [Together]int64
	read = Timestamps(&values, data, &places, len(texts), zoned)
	one := timestampsOneByOne(&plain, data, &places, len(texts), zoned)
	if read&^one != 0 {
		t.Fatalf("read together: %b, one by one: %b", read, one)
	}
	for i, text := range texts {
		want, hasZone, ok := Timestamp([]byte(text))
		if one>>i&1 == 1 && (!ok || hasZone != zoned || plain[i] != want) {
			t.Errorf("%q is read as %d, one by one, and otherwise as %d %v %v", text, plain[i], want, hasZone, ok)
		}
		if read>>i&1 == 1 && values[i] != want || read>>i&1 == 0 && values[i] != 0 {
			t.Errorf("%q is %d together, and otherwise %d; read: %v", text, values[i], want, read>>i&1 == 1)
		}
	}
	return read
}

func TestTimestampsTogether(t *testing.T) {
	for _, c := range []struct {
		text  string
		zoned bool
		read  bool
	}{
		{"2026-04-08T01:49:59Z", true, true},
		{"2026-04-08T01:49:59", false, true},
		{"2026-04-08 01:49:59", false, true},
		{"2024-02-29T00:00:00Z", true, true},
		{"2023-02-29T00:00:00Z", true, false},
		{"2000-02-29 23:59:59Z", true, true},
		{"1900-02-29T23:59:59Z", true, false},
		{"1900-01-01T00:00:00Z", true, true},
		{"2099-12-31T23:59:59Z", true, true},
		{"1969-12-31T23:59:59", false, true},
		{"2026-04-31T01:49:59Z", true, false},
		{"2026-13-01T01:49:59Z", true, false},
		{"2026-00-01T01:49:59Z", true, false},
		{"2026-01-00T01:49:59Z", true, false},
		{"2026-01-32T01:49:59Z", true, false},
		{"2026-01-01T24:00:00Z", true, false},
		{"2026-01-01T23:60:00Z", true, false},
		{"2026-01-01T23:59:60Z", true, false},
		{"2026-01-01T23:59:59z", true, false},
		{"2026-01-01T23:59:59Z", false, false},
		{"2026-01-01T23:59:59", true, false},
		{"2026/01/01T23:59:59Z", true, false},
		{"2026-01-01t23:59:59Z", true, false},
		{"2026-01-01T23.59:59Z", true, false},
		{"2026-01-01T23:59.59Z", true, false},
		{"2026-01-01T2a:59:59Z", true, false},
		{"2026-01-01T23:59:5:Z", true, false},
		{"202/-01-01T23:59:59Z", true, false},
		{"2026-01-01T23:59:59+", true, false},
		{"", true, false},
	} {
		if read := holdTimestamps(t, []string{c.text}, c.zoned) == 1; read != c.read {
			t.Errorf("%q, zoned %v, is read together: %v", c.text, c.zoned, read)
		}
	}
}

// TestTimestampsAmongOthers mixes timestamps of the form with those that are spoilt in one byte, cut off, or of other forms.
func TestTimestampsAmongOthers(t *testing.T) {
	random := rand.New(rand.NewPCG(19, 20))
	together := 0
	for round := range 4000 {
		zoned, form := round%2 == 0, "2006-01-02T15:04:05"
		if round%3 == 0 {
			form = "2006-01-02 15:04:05"
		}
		if zoned {
			form += "Z"
		}
		texts := make([]string, 1+random.IntN(Together))
		for i := range texts {
			text := []byte(time.Unix(random.Int64N(7e9)-2.5e9, 0).UTC().Format(form))
			switch random.IntN(8) {
			case 0:
				text[random.IntN(len(text))] = "0123456789-:TZ /\x00\xff"[random.IntN(18)]
			case 1:
				text = text[:random.IntN(len(text))]
			case 2:
				text = fmt.Appendf(text[:19], ".%03dZ", random.IntN(1000))
			}
			texts[i] = string(text)
		}
		for read := holdTimestamps(t, texts, zoned); read != 0; read &= read - 1 {
			together++
		}
	}
	if together < 50_000 {
		t.Errorf("only %d texts were read together", together)
	}
}

func BenchmarkTimestamps(b *testing.B) {
	var places [Together]Place
	var data []byte
	for i := range places {
		places[i] = Place{uint32(len(data)), 20}
		data = time.Unix(1_770_000_000+int64(i)*86_399, 0).UTC().AppendFormat(data, "2006-01-02T15:04:05Z,")
	}
	data = append(data, "the end"...)
	var values [Together]int64
	b.SetBytes(Together)
	for b.Loop() {
		if Timestamps(&values, data, &places, Together, true) != ^uint64(0) {
			b.Fatal("not all are read")
		}
	}
}
