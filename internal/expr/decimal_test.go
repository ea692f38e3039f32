package expr

import (
	"errors"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/schema"
)

func decimalField(name string, precision, scale int) schema.Field {
	return schema.Field{Name: name, Type: schema.Type{Kind: schema.Decimal, Precision: precision, Scale: scale}}
}

// priced is a table with decimals and times of day.
func priced(t testing.TB) ([]schema.Field, []arrow.Array, int) {
	t.Helper()
	fields := []schema.Field{decimalField("price", 9, 2), decimalField("id", 20, 0), decimalField("rate", 5, 4), field("n", schema.Long),
		field("x", schema.Double), field("t", schema.Time), field("s", schema.String)}
	rows := `[
{"price":"12.50","id":"12345678901234567890","rate":"0.0125","n":3,"x":0.5,"t":"10:20:30","s":"1.005"},
{"price":"-0.10","id":"12345678901234567891","rate":null,"n":null,"x":2,"t":"23:59:59.5","s":"x"},
{"price":null,"id":"1","rate":"1.0000","n":-7,"x":null,"t":null,"s":null}]`
	batch, _, err := array.RecordFromJSON(memory.DefaultAllocator, schema.Schema{Fields: fields}.Arrow(), strings.NewReader(rows))
	if err != nil {
		t.Fatal(err)
	}
	return fields, batch.Columns(), int(batch.NumRows())
}

func TestDecimalsAreExact(t *testing.T) {
	fields, columns, n := priced(t)
	for _, tt := range []struct{ text, want string }{
		// Doubles could not tell these ids apart.
		{"id = 12345678901234567890", "true false false"},
		{"id > 12345678901234567890", "false true false"},
		{"id + 1", "12345678901234567891 12345678901234567892 2"},
		{"price = -0.1", "false true (null)"},
		{"price IN (12.5, 0.10)", "true false (null)"},
		{"price + 0.1", "12.60 0.00 (null)"},
		{"price - n", "9.50 (null) (null)"},
		{"price * rate", "0.156250 (null) (null)"},
		{"-price", "-12.50 0.10 (null)"},
		{"+price", "12.50 -0.10 (null)"},
		{"ABS(price)", "12.50 0.10 (null)"},
		{"price / 2", "6.25 -0.05 (null)"},
		{"price * x", "6.25 -0.2 (null)"},
		{"price < rate", "false (null) (null)"},
		{"COALESCE(price, rate, 0)", "12.5000 -0.1000 1.0000"},
		{"CASE WHEN n > 0 THEN n ELSE price END", "3.00 -0.10 (null)"},
		{"NULLIF(price, 12.5)", "(null) -0.10 (null)"},
		{"CAST(price AS decimal(9,1))", "12.5 -0.1 (null)"},
		{"CAST(x AS decimal(5,2)) + price", "13.00 1.90 (null)"},
		{"CAST(n AS decimal(5,2))", "3.00 (null) -7.00"},
		{"CAST('1.50' AS NUMERIC(5,2))", "1.50 1.50 1.50"},
		{"CAST(1.005 AS decimal(5,2))", "1.01 1.01 1.01"},
		{"CAST(-1.005 AS decimal(5,2))", "-1.01 -1.01 -1.01"},
		{"CAST(price AS long)", "12 0 (null)"},
		{"CAST(price AS double)", "12.5 -0.1 (null)"},
		{"CAST(price AS string) || '!'", "12.50! -0.10! (null)"},
		{"FLOOR(price)", "12 -1 (null)"},
		{"t < TIME '23:00'", "true false (null)"},
		{"EXTRACT(HOUR FROM t) * 60 + EXTRACT(MINUTE FROM t)", "620 1439 (null)"},
		{"CAST(t AS string)", "10:20:30 23:59:59.5 (null)"},
		{"CAST('01:02:03.000004' AS time)", "01:02:03.000004 01:02:03.000004 01:02:03.000004"},
		{"CAST(TIMESTAMP '1969-12-31 23:00:00' AS time)", "23:00:00 23:00:00 23:00:00"},
	} {
		if got := valuesOf(t, tt.text, fields, columns, n); got != tt.want {
			t.Errorf("%s is %s, want %s", tt.text, got, tt.want)
		}
	}
}

func TestDecimalErrors(t *testing.T) {
	fields, columns, n := priced(t)
	for _, tt := range []struct{ text, reason string }{
		{"price + s", "decimal and string do not go together"},
		{"CAST(s AS decimal(5,2))", `"1.005" is no decimal(5,2)`},
		{"CAST(n AS decimal(50))", "a number from 1 to 38 is expected here"},
		{"CAST(n AS decimal(5,6))", "a number from 0 to 5 is expected here"},
		{"CAST(price AS decimal(2,1))", `"12.50" is no decimal(2,1)`},
		{"CAST(price AS date)", "decimal is never date"},
		{"CAST(t AS decimal)", "time is never decimal"},
		{"CAST(t AS long)", "time is never long"},
		{"id * id * id", "has more than 38 digits; CAST one of them AS double"},
		{"CAST(price AS decimal(38,20)) * CAST(rate AS decimal(38,20))", "the product has 40 digits after the point"},
		{"COALESCE(CAST(id AS decimal(38,0)), CAST(rate AS decimal(38,30)))", "more than 38 digits together"},
		{"MOD(price, 2)", "MOD takes whole numbers"},
		{"EXTRACT(YEAR FROM t)", "a time has no year"},
		{"t > TIME '25:00'", "is no time"},
		{"t + 1", "time and long do not go together"},
	} {
		e, err := Parse(tt.text, fields)
		if err == nil {
			_, err = e.Column(columns, n)
		}
		var at *Error
		if !errors.As(err, &at) || !strings.Contains(at.Reason, tt.reason) {
			t.Errorf("%s: %v, want %q", tt.text, err, tt.reason)
		}
	}
}

// Arithmetic and comparison of decimals agree with fractions of whole numbers of any size.
func TestDecimalsAgreeWithFractions(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	one := func(d digits) decimal128.Num {
		v := new(big.Int)
		for range 1 + random.IntN(d.precision) {
			v.Add(v.Mul(v, big.NewInt(10)), big.NewInt(random.Int64N(10)))
		}
		if random.IntN(2) == 0 {
			v.Neg(v)
		}
		return decimal128.FromBigInt(v)
	}
	fraction := func(v decimal128.Num, d digits) *big.Rat { return new(big.Rat).SetFrac(v.BigInt(), ten[d.scale]) }
	for range 2000 {
		a, b := digits{precision: 1 + random.IntN(18)}, digits{precision: 1 + random.IntN(18)}
		a.scale, b.scale = random.IntN(a.precision+1), random.IntN(b.precision+1)
		x, y := one(a), one(b)
		fields := []schema.Field{decimalField("a", a.precision, a.scale), decimalField("b", b.precision, b.scale)}
		builder := array.NewRecordBuilder(memory.DefaultAllocator, schema.Schema{Fields: fields}.Arrow())
		builder.Field(0).(*array.Decimal128Builder).Append(x)
		builder.Field(1).(*array.Decimal128Builder).Append(y)
		batch := builder.NewRecordBatch()
		left, right := fraction(x, a), fraction(y, b)
		for text, want := range map[string]string{
			"a + b": fmt.Sprint(new(big.Rat).Add(left, right)), "a - b": fmt.Sprint(new(big.Rat).Sub(left, right)),
			"a * b": fmt.Sprint(new(big.Rat).Mul(left, right)),
			"a < b": fmt.Sprint(left.Cmp(right) < 0), "a = b": fmt.Sprint(left.Cmp(right) == 0),
			"a >= b":                    fmt.Sprint(left.Cmp(right) >= 0),
			"COALESCE(NULLIF(a, b), b)": fmt.Sprint(left),
		} {
			e, err := Parse(text, fields)
			if err != nil {
				t.Fatal(err)
			}
			out, err := e.Column(batch.Columns(), 1)
			if err != nil {
				t.Fatalf("%s of %s and %s: %v", text, x.ToString(int32(a.scale)), y.ToString(int32(b.scale)), err)
			}
			got := shown(out)
			if e.Type().Kind == schema.Decimal {
				r, _ := new(big.Rat).SetString(got)
				got = fmt.Sprint(r)
			}
			if got != want {
				t.Fatalf("%s of %s and %s is %s, want %s", text, x.ToString(int32(a.scale)), y.ToString(int32(b.scale)), got, want)
			}
		}
	}
}

// Results have no more digits than they may need.
func TestDigitsOfResults(t *testing.T) {
	fields, _, _ := priced(t)
	for text, want := range map[string]string{"price + 1": "decimal(10,2)", "-price": "decimal(10,2)", "price * 1.5": "decimal(11,3)",
		"price + id": "decimal(23,2)", "id * id": "decimal(38,0)", "ABS(rate)": "decimal(5,4)",
		"COALESCE(price, 0)": "decimal(9,2)", "price + n": "decimal(22,2)", "price / 3": "double", "price + x": "double",
		"price * 1e3": "double"} {
		e, err := Parse(text, fields)
		if err != nil || e.Type().String() != want {
			t.Errorf("%s is %s, want %s: %v", text, e.Type(), want, err)
		}
	}
}
