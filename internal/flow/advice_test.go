package flow

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
)

// TestAdviceIsTrue follows what is said of columns of texts, and holds what comes of it against what was said.
func TestAdviceIsTrue(t *testing.T) {
	for _, test := range []struct{ values, want string }{
		{"1,000|2,500", "numbers with thousands set apart: --type 'c=long(#,###.#)' gives 1000 to 2500; with a decimal comma, --type 'c=double(#.###,#)' gives 1 to 2.5"},
		{"1,000,000|250", "--type 'c=long(#,###.#)' gives 250 to 1000000"},
		{"12,5|-3,25|7", "numbers with the decimal mark ,: --decimal-mark ',' gives -3.25 to 12.5"},
		{"1.234,5|12,25", "--decimal-mark ',' gives 12.25 to 1234.5"},
		{"1,234.5|12.25", "numbers with thousands set apart: --type 'c=double(#,###.#)' gives 12.25 to 1234.5"},
		{"3 000|12 500", "numbers with thousands set apart: --type 'c=long(#,###.#)' gives 3000 to 12500"},
		{"45%|7.5%", "--type 'c=double(#%)' gives the numbers alone, 7.5 to 45"},
		{"€ 12.50|€ 3", "--type 'c=double(€ #)' gives the numbers alone, 3 to 12.5"},
		{"12 m|7 m", "--type 'c=long(# m)' gives the numbers alone, 7 to 12"},
		{"12,5 m|7 m", "--type 'c=double(#.###,# m)' gives the numbers alone, 7 to 12.5"},
		{"0042|0107", "kept as text, since a number would lose them: --type 'c=long' gives 42 to 107"},
		{"+5|+17", "--type 'c=long' gives 5 to 17"},
		{"{0C17A8F2-0000-4000-8000-00000000000A}", "uuids, not in the usual form: --type 'c=uuid' reads them"},
		{"0C17A8F2-0000-4000-8000-00000000000A|0c17a8f2-0000-4000-8000-00000000000b", "--type 'c=uuid' reads them"},
		{"03/04/2031|05/06/2031", "--type 'c=date(%d/%m/%Y)' gives 2031-04-03 to 2031-06-05, --type 'c=date(%m/%d/%Y)' gives 2031-03-04 to 2031-05-06"},
		{"03.04.2031 10:00|05.06.2031 11:30", "--type 'c=timestamp(%d.%m.%Y %H:%M)' gives 2031-04-03 to 2031-06-05"},
		{"1930000000|1930086400", "if they are seconds since 1970, --type 'c=timestamptz(epoch)' gives 2031-02-27T23:06:40Z to 2031-02-28T23:06:40Z"},
		{"1930000000000|1930086400000", "if they are milliseconds since 1970, --type 'c=timestamptz(epoch_ms)' gives"},
		{"calm|B07", ""}, {"12/13|1/2", ""}, {"2031-05|2031-06", ""}, {"12 m|7 km", ""}, {"1,000|calm", ""}, {"a1b2|x", ""}, {"3|1,5|2.5", ""},
	} {
		rows := strings.Split(test.values, "|")
		testfolder.Make(t, map[string]string{"in.csv": "c;n\n" + strings.Join(rows, ";1\n") + ";1\n"})
		i, err := Infer(t.Context(), Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}, DefaultBudget())
		if err != nil {
			t.Fatal(err)
		}
		f, n, err := i.Column("c")
		if err != nil {
			t.Fatal(test.values, err)
		}
		if got := i.Note("c", f, n); (test.want == "") != (got == "" || strings.Contains(got, "are not")) || !strings.Contains(got, test.want) {
			t.Errorf("%s: %q, want %q", test.values, got, test.want)
		}
		for _, a := range n.Alternatives() {
			r := Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}
			r.Corrections.Types = map[string]schema.Stated{"c": a.Stated}
			c := Conversion{Reading: r, To: "out.csv", Layout: layout.DefaultOptions, Overwrite: true}
			report, err := Convert(t.Context(), c, DefaultBudget())
			if err != nil || len(report.Drift) > 0 {
				t.Errorf("%s as %s: %v, %+v", test.values, a.Stated, err, report)
				continue
			}
			text, err := os.ReadFile("out.csv")
			if low := numberText(a.Low) + ","; err != nil || a.Stated.Type.Kind != schema.UUID && !strings.Contains(string(text), low) {
				t.Errorf("%s as %s: %s lacks %s, %v", test.values, a.Stated, text, low, err)
			}
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
	i, err := Infer(t.Context(), Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}, DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	for column, want := range map[string]string{"code": "leading zeros", "level": "1 of 400 are not numbers", "day": "--type 'day=date(%d/%m/%Y)'", "card": "16 digits each", "price": "--type 'price=double(#.###,# €)'", "id": "", "area": ""} {
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
	i, err := Infer(t.Context(), Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}, DefaultBudget())
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
	trials := []columnar.Trial{{Codec: "none", Bytes: 100, WriteSeconds: 1, ReadSeconds: 1}, {Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "brotli:5", Bytes: 30, WriteSeconds: 9, ReadSeconds: 4}}
	alike := []columnar.Trial{{Codec: "snappy", Bytes: 41, WriteSeconds: 2.9, ReadSeconds: 1}, {Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "gzip:6", Bytes: 39, WriteSeconds: 3, ReadSeconds: 1}}
	slim := []columnar.Trial{{Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}, {Codec: "zstd:9", Bytes: 30, WriteSeconds: 7, ReadSeconds: 1}}
	quick := []columnar.Trial{{Codec: "lz4", Bytes: 41, WriteSeconds: 1, ReadSeconds: 1}, {Codec: "zstd:3", Bytes: 40, WriteSeconds: 3, ReadSeconds: 1}}
	for _, test := range []struct {
		favor  Favor
		trials []columnar.Trial
		steady bool
		codec  columnar.Codec
		why    string
	}{
		{FavorSize, trials, true, "brotli:5", "which makes it 25% smaller than zstd:3"},
		{FavorSpeed, trials, true, "none", "which takes 0.5 times the time of zstd:3 and is 150% larger than zstd:3"},
		{FavorSpeed, trials, false, "zstd:3", "the times differ too much"},
		{FavorBalance, trials, true, "zstd:3", "no other makes it 10% smaller in up to 2 times its time"},
		{FavorSize, alike, true, "zstd:3", "no other makes it 5% smaller"},
		{FavorSpeed, alike, true, "zstd:3", "no other takes less time"},
		{FavorBalance, alike, true, "zstd:3", "no other makes it 10% smaller"},
		{FavorBalance, slim, false, "zstd:9", "which makes it 25% smaller than zstd:3, in 2.0 times the time of zstd:3"},
		{FavorBalance, quick, true, "lz4", "which takes 0.5 times the time of zstd:3 and is as small"},
		{FavorBalance, quick, false, "zstd:3", "the usual one"},
	} {
		if got, why := test.favor.choose(test.trials, test.steady); got.Codec != test.codec || !strings.Contains(why, test.why) {
			t.Errorf("%s, steady %v: %s, %s; want %s, %s", test.favor, test.steady, got.Codec, why, test.codec, test.why)
		}
	}
	if _, err := ParseFavor("luck"); err == nil {
		t.Error("luck is taken")
	}
}

// Whatever the trials show: the usual codec is given up for a gain alone, and balance takes nothing that is far slower.
func TestFavorHoldsItsWord(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 9))
	for range 500 {
		trials := []columnar.Trial{{Codec: "zstd:3", Bytes: 1 + random.Int64N(1000), WriteSeconds: random.Float64(), ReadSeconds: random.Float64()}}
		for i := range random.IntN(9) {
			trials = append(trials, columnar.Trial{Codec: columnar.Codec(fmt.Sprint("c", i)), Bytes: 1 + random.Int64N(1000), WriteSeconds: random.Float64(), ReadSeconds: random.Float64()})
		}
		u := trials[0]
		size, _ := FavorSize.choose(trials, true)
		speed, _ := FavorSpeed.choose(trials, true)
		balance, _ := FavorBalance.choose(trials, true)
		unsure, _ := FavorSpeed.choose(trials, false)
		switch {
		case size.Codec != u.Codec && !smaller(size, u, equalPercent), balance.Codec != u.Codec && !smaller(balance, u, worthPercent) && balance.Seconds() >= u.Seconds():
			t.Fatalf("nothing is gained by %+v or %+v over %+v", size, balance, u)
		case speed.Seconds() > u.Seconds(), balance.Seconds() > balanceTimes*u.Seconds(), unsure.Codec != u.Codec:
			t.Fatalf("%+v, %+v, %+v beside %+v", speed, balance, unsure, u)
		}
		for _, other := range trials {
			if smaller(other, size, equalPercent) || smaller(other, balance, worthPercent) && other.Seconds() <= balanceTimes*u.Seconds() {
				t.Fatalf("%+v is smaller than %+v and %+v", other, size, balance)
			}
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
