package infer

import (
	"strings"
	"testing"

	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/testfolder"
)

func TestNotesAndCandidates(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,code,area,at,level,day,card,price\n")
	for i := range 400 {
		level := "12.5"
		if i == 77 {
			level = "deep"
		}
		text.WriteString(strings.Join([]string{number(i + 1), "00" + number(100+i%7), []string{"a", "b", "c"}[i%3], "2031-0" +
			number(1+i%9) + "-01T00:00:00", level, "0" + number(1+i%9) + "/02/2031",
			number(4_000_000_000_000_000 + i), number(i%5) + ",50 €"}, ";") + "\n")
	}
	testfolder.Make(t, map[string]string{"in.csv": strings.Replace(text.String(), ",", ";", 7)})
	i, err := Infer(t.Context(), Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}},
		run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	for column, want := range map[string]string{"code": "leading zeros", "level": "1 of 400 are not numbers",
		"day": "--type 'day=date(%d/%m/%Y)'", "card": "16 digits each", "price": "--type 'price=double(#.###,# €)'", "id": "",
		"area": ""} {
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
	if strings.Join(keys, " ") != "id card" || !strings.Contains(strings.Join(fields, " "), "area") ||
		!strings.Contains(strings.Join(fields, " "), "day(at)") || i.Advice.Ratio <= 0 {
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
	i, err := Infer(t.Context(), Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{"in.csv"}}},
		run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	for fields, want := range map[string]string{"id": "about 5000 partitions", "hour(at)": "'day(at)'", "area": "",
		"bucket(500,id)": "about 500 partitions", "day(at)": ""} {
		spec, err := layout.ParseSpec(fields, i.Schema)
		if err != nil {
			t.Fatal(err)
		}
		if got := i.Foresee(spec); (want == "") != (got == "") || !strings.Contains(got, want) {
			t.Errorf("%s: %q, want %q", fields, got, want)
		}
	}
}

func TestMonthsAreCounted(t *testing.T) {
	if monthsBetween("2031-01-05", "2032-02-01") != 14 || monthsBetween("x", "2031-01") != 0 {
		t.Error("months are counted wrong")
	}
}
