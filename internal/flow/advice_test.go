package flow

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/testfolder"
)

func TestLookOf(t *testing.T) {
	for text, want := range map[string]string{
		"0042": "leading zeros", "+491701": "plus sign", "1.234,5": "--decimal-mark ','", "1,234.50": "--decimal-mark '.'", "12,5": "--decimal-mark ','", "45%": "'c=double(#%)'", "€ 12.50": "'c=double(€ #)'",
		"€ 12,50": "--decimal-mark ',' --type 'c=double(€ #)'", "12 m": "'c=double(# m)'", "calm": "", "B07": "", "2031-05": "", "a1b2": "", "": "", "12/13": "", "x#1": "",
	} {
		if got := lookOf("c", text); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

func TestNotesAndCandidates(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,code,area,at,level,day,card,price\n")
	for i := range 400 {
		level := "12.5"
		if i == 77 {
			level = "deep"
		}
		text.WriteString(strings.Join([]string{number(i + 1), "00" + number(100+i%7), []string{"a", "b", "c"}[i%3], "2031-0" + number(1+i%9) + "-01T00:00:00", level, "0" + number(1+i%9) + "/02/2031",
			number(4_000_000_000_000_000 + i), number(i%5) + ",50 €"}, ";") + "\n")
	}
	testfolder.Make(t, map[string]string{"in.csv": strings.Replace(text.String(), ",", ";", 7)})
	i, err := Infer(t.Context(), Reading{Sources: []string{"in.csv"}}, DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	for column, want := range map[string]string{"code": "leading zeros", "level": "1 of 400 are not numbers", "day": "--type 'day=date(%d/%m/%Y)'", "card": "16 digits each", "price": "--decimal-mark ','", "id": "", "area": ""} {
		f, n, err := i.Column(column)
		if err != nil {
			t.Fatal(err)
		}
		if got := i.Note(column, f, n); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", column, got, want)
		}
	}
	_, level, err := i.Column("level")
	if against := i.Against(level); err != nil || len(against) != 1 || against[0].Text != "deep" || against[0].Place.Line != 79 {
		t.Errorf("%+v, %v", against, err)
	}
	var keys, fields []string
	for _, k := range i.Advice.Keys {
		keys = append(keys, k.Column)
	}
	for _, p := range i.Advice.Partitions {
		fields = append(fields, p.Field)
	}
	if strings.Join(keys, " ") != "id card" || !strings.Contains(strings.Join(fields, " "), "area") || !strings.Contains(strings.Join(fields, " "), "day(at)") || i.Advice.Ratio <= 0 {
		t.Errorf("keys %v, partitions %v, ratio %v", keys, fields, i.Advice.Ratio)
	}
	if _, _, err := i.Column("lvel"); err == nil || !strings.Contains(err.Error(), "nearest name is level") {
		t.Errorf("%v", err)
	}
}

func number(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return number(n/10) + number(n%10)
}

func TestForesee(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,at,area\n")
	for i := range 5000 {
		text.WriteString(number(100_000+i) + ",2031-05-" + number(10+i%20) + "T" + number(10+i/20%10) + ":00:00,a" + number(i%3) + "\n")
	}
	testfolder.Make(t, map[string]string{"in.csv": text.String()})
	i, err := Infer(t.Context(), Reading{Sources: []string{"in.csv"}}, DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	for fields, want := range map[string]string{"id": "about 5000 partitions", "hour(at)": "'day(at)'", "area": "", "bucket(500,id)": "about 500 partitions", "day(at)": ""} {
		spec, err := layout.ParseSpec(fields, i.Schema)
		if err != nil {
			t.Fatal(err)
		}
		if got := i.foresee(spec); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", fields, got, want)
		}
	}
}

func TestFavor(t *testing.T) {
	trials := []columnar.Trial{{Codec: "none", Bytes: 100, WriteSeconds: 1, ReadSeconds: 1}, {Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "brotli:5", Bytes: 30, WriteSeconds: 9, ReadSeconds: 2}}
	for favor, want := range map[Favor]columnar.Codec{FavorSize: "brotli:5", FavorSpeed: "none", FavorBalance: "zstd:3"} {
		if got := favor.best(trials).Codec; got != want {
			t.Errorf("%s: %s, want %s", favor, got, want)
		}
	}
	if _, err := ParseFavor("luck"); err == nil {
		t.Error("luck is taken")
	}
}

// Whatever the trials show: size takes the smallest, speed the quickest, and balance neither one that takes more than three times the least time nor one that is
// noticeably larger than another that does not.
func TestFavorHoldsItsWord(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	time := func(t columnar.Trial) float64 { return t.WriteSeconds + t.ReadSeconds }
	for range 500 {
		var trials []columnar.Trial
		for i := range 1 + random.IntN(9) {
			trials = append(trials, columnar.Trial{Codec: columnar.Codec(fmt.Sprint("c", i)), Bytes: 1 + random.Int64N(1000), WriteSeconds: random.Float64(), ReadSeconds: random.Float64()})
		}
		size, speed, balance := FavorSize.best(trials), FavorSpeed.best(trials), FavorBalance.best(trials)
		for _, other := range trials {
			quick := time(other) <= balanceTimes*time(speed)
			switch {
			case other.Bytes < size.Bytes:
				t.Fatalf("%+v is smaller than %+v", other, size)
			case time(other) < time(speed):
				t.Fatalf("%+v is quicker than %+v", other, speed)
			case quick && balance.Bytes > other.Bytes*(100+balancePercent)/100:
				t.Fatalf("%+v is smaller than %+v, and quick", other, balance)
			case quick && other.Bytes <= balance.Bytes && time(other) < time(balance):
				t.Fatalf("%+v is quicker than %+v, and no larger", other, balance)
			}
		}
		if time(balance) > balanceTimes*time(speed) {
			t.Fatalf("%+v takes more than %d times as long as %+v", balance, balanceTimes, speed)
		}
	}
}

func TestChoose(t *testing.T) {
	if got := choose(3, 10); len(got) != 3 || got[2] != 2 {
		t.Errorf("%v", got)
	}
	if got := choose(1000, 5); len(got) != 5 || got[0] != 0 || got[4] != 999 {
		t.Errorf("%v", got)
	}
	if monthsBetween("2031-01-05", "2032-02-01") != 14 || monthsBetween("x", "2031-01") != 0 {
		t.Error("months are counted wrong")
	}
}
