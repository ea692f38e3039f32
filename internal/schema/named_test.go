package schema

import (
	"strings"
	"testing"

	"trevak/internal/lexical"
)

// ofValues settles a column of texts, and returns its type with its format.
func ofValues(values string) string {
	var e, other Evidence
	for i, v := range strings.Split(values, "|") {
		var w weighed
		class := w.field([]byte(v))
		to := &e
		if i%2 == 1 {
			to = &other // what another worker saw
		}
		to.Seen |= class
		to.weigh([]byte(v), class, &w, uint64(i))
	}
	e.Merge(&other)
	t, notation, _ := e.Settled(nil)
	return Stated{Type: t, Notation: notation}.String()
}

func TestNamedDates(t *testing.T) {
	for values, want := range map[string]string{
		"18 Oct 1812|3 May 1999":                           "date(%d %b %Y)",
		"Jan 1 2000|December 25 2001":                      "date(%b %d %Y)",
		"Jan 1, 2000|Feb 2, 2001":                          "date(%b %d, %Y)",
		"18-Oct-1812":                                      "date(%d-%b-%Y)",
		"18-Oct-99|1-Jan-12":                               "date(%d-%b-%y)",
		"18-Oct-12|19-Nov-13":                              "string",
		"3/14/99|12/31/98":                                 "date(%m/%d/%y)",
		"14/03/31|30/12/31":                                "string",
		"14/03/32|30/12/31":                                "date(%d/%m/%y)",
		"01/02/03|02/02/03":                                "string",
		"1.2.13|10.20.14":                                  "string",
		"03/14/2031 02:05:06 PM|03/02/2031 12:00:00 AM":    "timestamp(%m/%d/%Y %I:%M:%S %p)",
		"03/04/2031 02:05 PM|05/06/2031 11:00 AM":          "string",
		"2031-03-14 02:05 pm":                              "timestamp(%Y-%m-%d %I:%M %p)",
		"02:05 PM|11:59 AM":                                "time(%I:%M %p)",
		"18 Oct 2031 10:15:00|3 May 2031 00:00:00":         "timestamp(%d %b %Y %H:%M:%S)",
		"18 Oct 2031 10:15:00|3 May 2031":                  "string",
		"18 Oct 2031 10:15:00 +0200|3 May 2031 01:00:00 Z": "timestamptz(%d %b %Y %H:%M:%S %z)",
		"18 Oct 2031|calm":                                 "string",
		"31 Feb 2031|1 Mar 2031":                           "string",
		"Oct-12|Nov-13":                                    "string",
		"Oct-99|Nov-13":                                    "string",
		"Oct 2031|May 2031":                                "string",
		"May|Mar":                                          "string",
		"12 Marrow Deep|3 Cairn Bay":                       "string",
	} {
		if got := ofValues(values); got != want {
			t.Errorf("%s: %s, want %s", values, got, want)
		}
	}
	var e Evidence
	var w weighed
	class := w.field([]byte("Oct 2031"))
	e.Seen = class
	e.weigh([]byte("Oct 2031"), class, &w, 1)
	if got := e.Months(); got != "%b %Y" {
		t.Errorf("months: %q", got)
	}
}

// FuzzNamedDates checks that a text that is told to be a date is read by all patterns that are left for it.
func FuzzNamedDates(f *testing.F) {
	for _, seed := range []string{"18 Oct 1812", "Jan 1, 2000 10:00", "3/14/99", "02:05 PM", "May 5", "12:", ":", "Oct", "1-Jan-00"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) == 0 {
			return
		}
		u, ok := namedDate(b)
		if !ok {
			return
		}
		pattern, kind, ok := u.namedPattern()
		if !ok {
			return
		}
		p, err := lexical.CompilePattern(pattern)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, ok := p.Read(b); !ok {
			t.Fatalf("%q is not read by %s, as which it is a %s", b, pattern, kind)
		}
	})
}
