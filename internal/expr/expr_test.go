package expr

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

func field(name string, k schema.Kind, parts ...schema.Field) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: k, Fields: parts}}
}

// table is what the tests evaluate over.
func table(t testing.TB) ([]schema.Field, []arrow.Array, int) {
	t.Helper()
	fields := []schema.Field{field("id", schema.Long), field("depth", schema.Double), field("ok", schema.Boolean),
		field("note", schema.String),
		field("day", schema.Date), field("at", schema.TimestampTz), field("Sea Area", schema.String),
		field("position", schema.Struct, field("lat", schema.Double), field("grid", schema.Struct, field("cell", schema.Long))),
		field("small", schema.Int)}
	list := schema.Field{Name: schema.ElementName, Type: schema.Type{Kind: schema.Long}}
	fields = append(fields, schema.Field{Name: "marks", Type: schema.Type{Kind: schema.List, Element: &list}})
	rows := `[
{"id":1,"depth":2.5,"ok":true,"note":"calm","day":"2031-05-01","at":"2031-05-01T10:20:30Z","Sea Area":"Cairn Bay","position":{"lat":57.5,"grid":{"cell":7}},"small":3,"marks":[1]},
{"id":2,"depth":null,"ok":false,"note":null,"day":null,"at":null,"Sea Area":"Inner Reach","position":{"lat":null,"grid":null},"small":null,"marks":null},
{"id":-3,"depth":-0.5,"ok":null,"note":"swell på väg","day":"1969-12-31","at":"1969-12-31T23:59:59Z","Sea Area":null,"position":null,"small":-4,"marks":[]}]`
	batch, _, err := array.RecordFromJSON(memory.DefaultAllocator, schema.Schema{Fields: fields}.Arrow(), strings.NewReader(rows))
	if err != nil {
		t.Fatal(err)
	}
	return fields, batch.Columns(), int(batch.NumRows())
}

func TestValues(t *testing.T) {
	fields, columns, n := table(t)
	tests := []struct{ text, want string }{
		{"id + 1", "[2 3 -2]"},
		{"id * 2 - small", "[-1 (null) -2]"},
		{"-id", "[-1 -2 3]"},
		{"+depth", "[2.5 (null) -0.5]"},
		{"7 / 2", "[3 3 3]"},
		{"7 / 2.0", "[3.5 3.5 3.5]"},
		{"2 + 3 * 4", "[14 14 14]"},
		{"(2 + 3) * 4", "[20 20 20]"},
		{"depth * 3.28084", "[8.2021 (null) -1.64042]"},
		{"depth > 0", "[true (null) false]"},
		{"depth > 0 AND ok", "[true false false]"},
		{"depth > 0 or ok", "[true (null) (null)]"},
		{"id <> 2 AND 10 / (id - 2) < -5", "[true false false]"},
		{"id = 2 OR 10 / (id - 2) < -5", "[true true false]"},
		{"ok AND depth > 0 OR NOT ok AND depth > 0", "[true (null) false]"},
		{"NOT ok", "[false true (null)]"},
		{"ok IS NOT TRUE", "[false true true]"},
		{"ok IS FALSE", "[false true false]"},
		{"note IS NULL", "[false true false]"},
		{"note IS NOT NULL AND id <> 1", "[false false true]"},
		{"id BETWEEN 1 AND 2", "[true true false]"},
		{"id NOT BETWEEN 1 AND 2", "[false false true]"},
		{"id IN (1, -3)", "[true false true]"},
		{"note NOT IN ('calm')", "[false (null) true]"},
		{"note LIKE '%well%'", "[false (null) true]"},
		{"note LIKE 'c__m'", "[true (null) false]"},
		{"note NOT LIKE '%'", "[false (null) false]"},
		{"note || '!'", "[calm! (null) swell på väg!]"},
		{"UPPER(note)", "[CALM (null) SWELL PÅ VÄG]"},
		{"CHAR_LENGTH(note)", "[4 (null) 12]"},
		{"SUBSTRING(note FROM 2 FOR 3)", "[alm (null) wel]"},
		{"SUBSTRING(note FROM 7)", "[ (null) på väg]"},
		{"SUBSTRING(note FROM 0 FOR 3)", "[ca (null) sw]"},
		{"POSITION('å' IN note)", "[0 (null) 8]"},
		{"TRIM(LEADING 'c' FROM note)", "[alm (null) swell på väg]"},
		{"TRIM('  x ')", "[x x x]"},
		{`"Sea Area"`, "[Cairn Bay Inner Reach (null)]"},
		{`"Sea Area" = 'Cairn Bay'`, "[true false (null)]"},
		{"position.lat", "[57.5 (null) (null)]"},
		{"position.grid.cell + 1", "[8 (null) (null)]"},
		{"EXTRACT(YEAR FROM day)", "[2031 (null) 1969]"},
		{"EXTRACT(SECOND FROM at)", "[30 (null) 59]"},
		{"day >= DATE '2000-01-01'", "[true (null) false]"},
		{"at < TIMESTAMP '1970-01-01T00:00:00Z'", "[false (null) true]"},
		{"day < at", "[true (null) true]"},
		{"COALESCE(depth, 0)", "[2.5 0 -0.5]"},
		{"COALESCE(NULL, note, 'none')", "[calm none swell på väg]"},
		{"NULLIF(id, 2)", "[1 (null) -3]"},
		{"1 / NULLIF(id - 2, 0)", "[-1 (null) 0]"},
		{"CASE WHEN depth > 0 THEN 'deep' WHEN depth IS NULL THEN 'unknown' ELSE 'high' END", "[deep unknown high]"},
		{"CASE id WHEN 1 THEN 1.5 WHEN 2 THEN 2 END", "[1.5 2 (null)]"},
		{"CASE WHEN id = 2 THEN 0 ELSE 10 / (id - 2) END", "[-10 0 -2]"},
		{"CAST(id AS string) || 'x'", "[1x 2x -3x]"},
		{"CAST('12' AS long) + id", "[13 14 9]"},
		{"CAST(depth AS long)", "[2 (null) 0]"},
		{"CAST(at AS date) = day", "[true (null) true]"},
		{"CAST(at AS string)", "[2031-05-01 10:20:30Z (null) 1969-12-31 23:59:59Z]"},
		{"CAST(NULL AS double)", "[(null) (null) (null)]"},
		{"MOD(id, 2)", "[1 0 -1]"},
		{"ABS(id) + CEILING(depth)", "[4 (null) 3]"},
		{"POWER(2, 10)", "[1024 1024 1024]"},
		{"'it''s'", "[it's it's it's]"},
		{"1e3 + .5", "[1000.5 1000.5 1000.5]"},
	}
	for _, tt := range tests {
		if got := valuesOf(t, tt.text, fields, columns, n); "["+got+"]" != tt.want {
			t.Errorf("%s is [%s], want %s", tt.text, got, tt.want)
		}
	}
}

// valuesOf evaluates an expression and writes its values as text, with (null) for null.
func valuesOf(t *testing.T, text string, fields []schema.Field, columns []arrow.Array, n int) string {
	t.Helper()
	e, err := Parse(text, fields)
	if err != nil {
		t.Errorf("%s: %v", text, err)
		return ""
	}
	a, err := e.Column(columns, n)
	if err != nil {
		t.Errorf("%s: %v", text, err)
		return ""
	}
	if !arrow.TypeEqual(a.DataType(), e.Type().Arrow()) {
		t.Errorf("%s is said to be %s, but is %s", text, e.Type(), a.DataType())
	}
	return shown(a)
}

func shown(a arrow.Array) string {
	got := make([]string, a.Len())
	for i := range got {
		if got[i] = "(null)"; a.IsValid(i) {
			got[i] = string(rowtext.AppendText(nil, a, i))
		}
	}
	return strings.Join(got, " ")
}

func TestErrorsPointAtTheCharacter(t *testing.T) {
	fields, columns, n := table(t)
	tests := []struct {
		text   string
		at     int
		reason string
	}{
		{"", 1, "a value is expected here, not the end"},
		{"depht > 3", 1, `there is no column "depht"; the nearest name is depth`},
		{"ok and depth >", 15, "a value is expected here"},
		{"id + note", 4, "long and string do not go together"},
		{"note + note", 6, "+ takes numbers, not string"},
		{"ok and depth", 8, "a condition is expected here, this is double"},
		{"id = 1)", 7, `")" is not expected here`},
		{"(id = 1", 8, ") is expected here"},
		{"note = 'calm", 8, "a quote is not closed"},
		{"id # 2", 4, "means nothing here"},
		{"position > 3", 1, `"position" is struct, which expressions do not take`},
		{"marks = 3", 1, `"marks" is list`},
		{"position.lon = 3", 1, `there is no column "position.lon"; the columns are lat, grid`},
		{"id.x = 3", 1, "has no members"},
		{"SQUARE(id)", 1, "there is no function SQUARE"},
		{"EXTRACT(HOUR FROM day)", 9, "a date has no hour"},
		{"CAST(id AS money)", 12, "is no type"},
		{"CAST(ok AS date)", 1, "boolean is never date"},
		{"DATE '2031-02-30'", 6, "is no date"},
		{"id IS 3", 7, "NULL, TRUE or FALSE is expected here"},
		{"id NOT 3", 8, "BETWEEN, IN, LIKE or LIKE_REGEX is expected here"},
		{"NULL", 1, "NULL alone has no type"},
		{"CASE id END", 9, "WHEN is expected here"},
		{"10 / (id - 2)", 4, "division by zero"},
		{"id * 9223372036854775807", 4, "is beyond the type long"},
		{"CAST(note AS long)", 1, `"calm" is no long`},
		{"SQRT(depth)", 1, "SQRT has no value for -0.5"},
		{strings.Repeat("(", 300) + "1", 201, "brackets lie more than 200 deep"},
	}
	for _, tt := range tests {
		e, err := Parse(tt.text, fields)
		if err == nil {
			_, err = e.Column(columns, n)
		}
		var at *Error
		if !errors.As(err, &at) {
			t.Errorf("%s: error %v", tt.text, err)
			continue
		}
		if want := fmt.Sprintf("at character %d", tt.at); !strings.Contains(err.Error(), want) ||
			!strings.Contains(at.Reason, tt.reason) {
			t.Errorf("%s: %v, want %q %s", tt.text, err, tt.reason, want)
		}
	}
}

func TestRowsOfACondition(t *testing.T) {
	fields, columns, n := table(t)
	e, err := Parse("ok IS NOT FALSE and id < 2", fields)
	if err != nil {
		t.Fatal(err)
	}
	if e.Type().Kind != schema.Boolean {
		t.Errorf("a condition is %s", e.Type())
	}
	if got, err := e.Rows(columns, n); err != nil || fmt.Sprint(got) != "[0 2]" {
		t.Errorf("rows %v, %v", got, err)
	}
}

func TestWholeNumbersDoNotOverflow(t *testing.T) {
	edges := []int64{0, 1, -1, 2, -2, math.MaxInt64, math.MinInt64, math.MaxInt64 - 1, math.MinInt64 + 1, 1 << 31, -1 << 31, 3037000500}
	for _, x := range edges {
		for _, y := range edges {
			for _, sign := range []string{"+", "-", "*", "/"} {
				got, ok := whole(sign, x, y)
				want := map[string]float64{"+": float64(x) + float64(y), "-": float64(x) - float64(y), "*": float64(x) * float64(y)}[sign]
				if sign == "/" {
					if y == 0 {
						continue
					}
					want = math.Trunc(float64(x) / float64(y))
				}
				if fits := want >= -0x1p63 && want < 0x1p63; math.Abs(want) < 0x1p62 && (!ok || math.Abs(float64(got)-want) > 1e4) ||
					ok && !fits && math.Abs(want) > 0x1.1p63 {
					t.Errorf("%d %s %d is %d %v, about %g", x, sign, y, got, ok, want)
				}
			}
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"ok and depth > 3", "CASE WHEN id = 1 THEN 'a' ELSE note END", "SUBSTRING(note FROM 2 FOR 3) LIKE '_%'",
		`"Sea Area" IN ('x', NULL)`,
		"CAST(EXTRACT(YEAR FROM day) AS string) || 'x'", "COALESCE(NULL, -depth, 1e400)", "TRIM(BOTH 'x' FROM note)"} {
		f.Add(text)
	}
	fields, columns, n := table(f)
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse(text, fields)
		if err != nil {
			if err.Error() == "" {
				t.Error("an error says nothing")
			}
			return
		}
		if a, err := e.Column(columns, n); err == nil && a.Len() != n {
			t.Errorf("%q has %d values for %d rows", text, a.Len(), n)
		}
	})
}
