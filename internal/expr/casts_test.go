package expr

import "testing"

// What a cast makes of each kind, in both directions where there are two; nulls stay null.
func TestCasts(t *testing.T) {
	fields, columns, n := table(t)
	for _, tt := range []struct{ text, want string }{
		{"CAST(id AS double)", "1 2 -3"},
		{"CAST(id AS BIGINT)", "1 2 -3"},
		{"CAST(2.9 AS long)", "2 2 2"},
		{"CAST(-2.9 AS long)", "-2 -2 -2"},
		{"CAST(depth AS string)", "2.5 (null) -0.5"},
		{"CAST(ok AS VARCHAR)", "true false (null)"},
		{"CAST('yes' AS string) || CAST(ok AS string)", "yestrue yesfalse (null)"},
		{"CAST('true' AS boolean) = ok", "true false (null)"},
		{"CAST('2031-05-01' AS date) = day", "true (null) false"},
		{"CAST('2031-05-01 10:20:30' AS timestamp)", "2031-05-01T10:20:30 2031-05-01T10:20:30 2031-05-01T10:20:30"},
		{"CAST('2031-05-01T10:20:30+02:00' AS timestamptz)", "2031-05-01T08:20:30Z 2031-05-01T08:20:30Z 2031-05-01T08:20:30Z"},
		{"CAST(day AS timestamp)", "2031-05-01T00:00:00 (null) 1969-12-31T00:00:00"},
		{"CAST(day AS timestamptz) = at", "false (null) false"},
		{"CAST(at AS date)", "2031-05-01 (null) 1969-12-31"},
		{"CAST(at AS timestamp)", "2031-05-01T10:20:30 (null) 1969-12-31T23:59:59"},
		{"CAST(CAST(at AS timestamp) AS timestamptz) = at", "true (null) true"},
		{"CAST(at AS time)", "10:20:30 (null) 23:59:59"},
		{"CAST(day AS string)", "2031-05-01 (null) 1969-12-31"},
		{"CAST(CAST(at AS timestamp) AS string)", "2031-05-01 10:20:30 (null) 1969-12-31 23:59:59"},
		{"CAST(small AS long) + 1", "4 (null) -3"},
		{"CAST(NULL AS decimal(5,2))", "(null) (null) (null)"},
		{"CAST(NULL AS date) IS NULL", "true true true"},
		{"CAST(' 12' AS string) || CAST(12 AS string)", " 1212  1212  1212"},
	} {
		if got := valuesOf(t, tt.text, fields, columns, n); got != tt.want {
			t.Errorf("%s is %q, want %q", tt.text, got, tt.want)
		}
	}
}

// What is asked of booleans, of what is not a number, and of nulls.
func TestComparisonsAtTheEdges(t *testing.T) {
	fields, columns, n := table(t)
	for _, tt := range []struct{ text, want string }{
		{"ok > FALSE", "true false (null)"},
		{"ok <> (id = 1)", "false false (null)"},
		{"0.0 = -0.0", "true true true"},
		{"CAST('NaN' AS double) = CAST('NaN' AS double)", "false false false"},
		{"CAST('NaN' AS double) <> depth", "true (null) true"},
		{"CAST('NaN' AS double) > 1", "false false false"},
		{"NULL = id", "(null) (null) (null)"},
		{"id IN (NULL, 1)", "true (null) (null)"},
		{"id NOT IN (NULL, 1)", "false (null) (null)"},
		{"NULL OR ok", "true (null) (null)"},
		{"NULL AND ok", "(null) false (null)"},
		{"NOT NULL", "(null) (null) (null)"},
		{"(note IS NULL) IS TRUE", "false true false"},
		{"COALESCE(small, id, 0)", "3 2 -4"},
		{"id = 9223372036854775807", "false false false"},
		{"id > -9223372036854775808", "true true true"},
		{"'a' < 'b' AND 'ä' > 'z'", "true true true"},
		{"DATE '2031-05-01' = TIMESTAMP '2031-05-01 00:00:00'", "true true true"},
		{"day BETWEEN DATE '1969-12-31' AND at", "true (null) true"},
		{"- - id", "1 2 -3"},
		{"-(-3)", "3 3 3"},
		{"2 - -3", "5 5 5"},
		{"1 - 1 - 1", "-1 -1 -1"},
		{"8 / 2 / 2", "2 2 2"},
		{"CASE WHEN NULL THEN 1 ELSE 2 END", "2 2 2"},
		{"CASE WHEN ok THEN NULL ELSE note END", "(null) (null) swell på väg"},
		{"POSITION('' IN note)", "1 (null) 1"},
		{"SUBSTRING(note FROM 100)", " (null) "},
		{"SUBSTRING(note FROM -2 FOR 4)", "c (null) s"},
		{"TRIM(BOTH 'c' FROM note)", "alm (null) swell på väg"},
		{"TRIM(TRAILING 'm' FROM note)", "cal (null) swell på väg"},
		{"note LIKE '%'", "true (null) true"},
		{"note LIKE ''", "false (null) false"},
		{"note LIKE '_a%m'", "true (null) false"},
	} {
		if got := valuesOf(t, tt.text, fields, columns, n); got != tt.want {
			t.Errorf("%s is %q, want %q", tt.text, got, tt.want)
		}
	}
}
