package schema

import (
	"strings"
	"testing"
)

func TestParseType(t *testing.T) {
	for _, name := range []string{"boolean", "int", "long", "float", "double", "date", "time", "timestamp", "timestamptz", "string",
		"uuid", "binary", " Long ",
		"decimal(9,2)", "decimal(9,2,€ #)", "timestamp(%d.%m.%Y %H:%M)", "timestamptz(epoch_ms)", "double(#%)", "boolean(yes/no)",
		"binary(hex)",
		"list<string>", "map<string, double>", "struct<a: long, b: list<struct<c: decimal(3,1)>>>"} {
		if got, err := ParseType(name); err != nil || got.String() != strings.ToLower(strings.TrimSpace(name)) && got.String() != name {
			t.Errorf("%s: %s, %v", name, got, err)
		}
	}
	for text, want := range map[string]string{
		"varchar": "it takes one of boolean", "decimal": "is no decimal", "decimal(39,2)": "at most 38", "decimal(2,3)": "is no decimal",
		"date(%H:%M)":           "a date has a day",
		"timestamptz(%Y-%m-%d)": "has no zone", "timestamp(%Q)": "%Q, which is not known", "double(m)": "one # in its place",
		"string(x)": "no formats", "boolean(yes)": "a slash",
		"long(": "closing bracket", "map<long,string>": "no map from texts", "struct<a>": "without name or type",
		"binary(rot13)": "hex or base64",
	} {
		if _, err := ParseType(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func FuzzParseType(f *testing.F) {
	for _, text := range []string{"long", "decimal(9,2,# m)", "struct<a: long, b: map<string,list<date(%d/%m/%Y)>>>", "timestamp(%)",
		"list<", "decimal(,)"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		stated, err := ParseType(text)
		if err != nil {
			return
		}
		again, err := ParseType(stated.String())
		if err != nil || again.String() != stated.String() {
			t.Errorf("%q reads as %q, and that as %q, %v", text, stated, again, err)
		}
	})
}

func TestClassify(t *testing.T) {
	for text, want := range map[string]Class{
		"1": ClassLong, "-5": ClassLong, "9007199254740993": ClassWide, "1.5": ClassDouble, "1e5": ClassExponent, "true": ClassBoolean,
		"False":      ClassBoolean,
		"2031-05-01": ClassDate, "12:30": ClassTime, "2031-05-01 12:30:00": ClassTimestamp, "2031-05-01T12:30:00Z": ClassTimestampTz,
		"20310501T123000Z": ClassTimestampTz, "20310501T123000": ClassTimestamp, "2031-05-01 12:30:00,5": ClassTimestamp,
		"2031-05-01 12:30:00 UTC":       ClassTimestampTz,
		"2031-05-01T12:30:00.123456000": ClassTimestamp, "2031-05-01T12:30:00.123456789": ClassText,
		"007": ClassText, "+5": ClassText, "+4930123456": ClassText, "99999999999999999999": ClassDecimal,
		"12345678901234567.89": ClassDecimal, "yes": ClassYesNo,
		"n/a": ClassToken, "NULL": ClassToken, "-": ClassToken, "Y": ClassText, "t": ClassLetter, "NaN": ClassSpecial,
		"-inf": ClassSpecial, "1e400": ClassText,
		"2031-02-30": ClassText, "1,5": ClassText, " 1": ClassText, "12:99": ClassText, "€5": ClassText, "12%": ClassText,
		"3.5m":       ClassText,
		"23/04/2031": ClassDayFirst, "04/23/2031": ClassMonthFirst, "03/04/2031": ClassDayOrMonth, "3.4.2031 10:15": ClassDayOrMonth,
		"2031/04/23": ClassYearFirst,
		"31/02/2031": ClassText, "23/04/31": ClassNamed, "6ba7b810-9dad-11d1-80b4-00c04fd430c8": ClassUUID,
		"6BA7B810-9DAD-11D1-80B4-00C04FD430C8": ClassText,
		"f81d4fae-7dec-11d0-a765-00a0c91e6bf6": ClassUUID,
	} {
		if got := Classify([]byte(text)); got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

func TestResolve(t *testing.T) {
	tests := []struct {
		seen Class
		want Kind
	}{
		{ClassNull, Unknown}, {ClassBoolean | ClassNull, Boolean}, {ClassLong | ClassWide, Long}, {ClassLong | ClassDouble, Double},
		{ClassWide | ClassDouble, Decimal}, {ClassDecimal | ClassExponent, String}, {ClassLong | ClassSpecial, Double},
		{ClassWide | ClassSpecial, String},
		{ClassDate | ClassTimestamp, Timestamp}, {ClassDate | ClassTimestampTz, String}, {ClassTime, Time}, {ClassYesNo, Boolean},
		{ClassYesNo | ClassBoolean, String},
		{ClassLong | ClassText, String}, {ClassObject, Struct}, {ClassArray | ClassNull, List}, {ClassObject | ClassLong, String},
		{ClassBoolean | ClassLong, String},
		{ClassLong | ClassToken, Long}, {ClassText | ClassToken, String}, {ClassToken, String}, {ClassObject | ClassToken, String},
		{ClassDayFirst | ClassDayOrMonth, Date}, {ClassDayOrMonth, String}, {ClassDayFirst | ClassMonthFirst, String},
		{ClassDayFirst | ClassDate, String}, {ClassUUID, UUID},
	}
	for _, test := range tests {
		if got := Resolve(test.seen); got != test.want {
			t.Errorf("%b: %s, want %s", test.seen, got, test.want)
		}
	}
}

// TestResolveOnlyWidens adds a class to every set: what was settled stays or gives way to something that holds as much, except
// for what Undecided tells of.
func TestResolveOnlyWidens(t *testing.T) {
	for seen := Class(1); seen < 1<<Classes; seen = seen*3 + 1 {
		for i := range Classes {
			before, after := Resolve(seen), Resolve(seen|1<<i)
			if before == String && after != String && seen&^(ClassNull|ClassToken|ClassDayOrMonth) != 0 {
				t.Fatalf("%b is a string, with %s it is a %s", seen, Class(1<<i), after)
			}
		}
	}
}
