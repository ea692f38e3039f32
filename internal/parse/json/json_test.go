package json

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"trevak/internal/parse"
)

// walk visits every part of a text, undoing escapes as a reader of values does, and returns the error.
func walk(text string) *SyntaxError {
	var s Scanner
	s.Reset([]byte(text))
	value(&s)
	s.End()
	return s.Err()
}

func value(s *Scanner) {
	switch s.Peek() {
	case Object:
		s.Open()
		for n := 0; ; n++ {
			key, escaped, ok := s.NextKey(n)
			if !ok {
				return
			}
			if escaped {
				s.Unescape(nil, key)
			}
			value(s)
		}
	case Array:
		s.Open()
		for n := 0; s.NextElement(n); n++ {
			value(s)
		}
	case String:
		if text, escaped := s.String(); escaped {
			s.Unescape(nil, text)
		}
	default:
		if s.Err() == nil {
			s.Skip()
		}
	}
}

func TestWalkRefuses(t *testing.T) {
	tests := []struct{ text, reason string }{
		{`{"a":1,}`, "a comma stands before the end"},
		{`[1,]`, "a comma stands before the end"},
		{`{"a" 1}`, "a colon is expected"},
		{`{a:1}`, "a key is expected"},
		{`{"a":01}`, "leading zero"},
		{`{"a":1.}`, "no digits after its point"},
		{`{"a":1e}`, "no digits in its exponent"},
		{`{"a":NaN}`, "no number of JSON"},
		{`{"a":nul}`, "this is not null"},
		{`{"a":"x`, "not closed"},
		{`{"a":"\x"}`, "begins no escape"},
		{"{\"a\":\"\t\"}", "control character"},
		{`{"a":"\ud800"}`, "half of a surrogate pair"},
		{`{"a":"\udc00\ud800"}`, "half of a surrogate pair"},
		{`{"a":1} x`, "text follows"},
		{`{"a":[1`, "ends within"},
		{``, "where a value is expected"},
		{strings.Repeat("[", 201) + strings.Repeat("]", 201), "more than 200 deep"},
	}
	for _, test := range tests {
		err := walk(test.text)
		if err == nil || !strings.Contains(err.Reason, test.reason) {
			t.Errorf("%.40s: %v, want %q", test.text, err, test.reason)
		}
	}
	if err := walk(strings.Repeat("[", 200) + strings.Repeat("]", 200)); err != nil {
		t.Errorf("200 deep: %v", err)
	}
}

func TestUnescape(t *testing.T) {
	for _, text := range []string{`a\"b\\c\/d\b\f\n\r\t`, `\u00e9\u4E2D\ud83d\ude00z`, `plain`, ``} {
		var want string
		if err := json.Unmarshal([]byte(`"`+text+`"`), &want); err != nil {
			t.Fatal(err)
		}
		var s Scanner
		if got := string(s.Unescape(nil, []byte(text))); got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

func TestLines(t *testing.T) {
	block := parse.Block{Data: []byte("{\"a\":1}\r\n\n  \n {\"a\":2} \n{\"a\":3}"), Line: 1}
	var r Records
	r.Parse(&block)
	var got []string
	for row := range r.Rows() {
		start, _ := r.Span(row)
		got = append(got, fmt.Sprintf("%d:%s", block.LineAt(start), r.Text(row)))
	}
	if want := "1:{\"a\":1},4: {\"a\":2},5:{\"a\":3}"; strings.Join(got, ",") != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// FuzzScanner holds the scanner against the standard library's: both accept a text or neither does.
func FuzzScanner(f *testing.F) {
	for _, seed := range []string{`{"a":[1,-2.5e3,null,true,"x\u00e9"],"b":{}}`, `[[],{}]`, `"\ud83d\ude00"`, `1e+9`, `{"a":1,"a":2}`, ` { } `,
		`{"a":"\ud800"}`, `-`, `[1 2]`, "\"\x01\""} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if bytes.Count(data, []byte("["))+bytes.Count(data, []byte("{")) > 100 {
			t.Skip()
		}
		got, want := walk(string(data)), json.Valid(data)
		if got == nil && !want {
			t.Fatalf("%q is accepted", data)
		}
		// The standard library lets half a surrogate pair pass.
		if got != nil && want && !bytes.Contains(bytes.ToLower(data), []byte(`\ud`)) {
			t.Fatalf("%q is refused: %v", data, got)
		}
	})
}

func BenchmarkSkip(b *testing.B) {
	text := []byte(`{"id":12,"buoy":{"code":"OS-0042","position":{"lat":57.12345,"lon":-5.54321},"area":"Cairn Bay"},"at":"2026-03-04T05:06:00Z",` +
		`"readings":[{"sensor":"depth","unit":"m","value":12.345,"ok":true},{"sensor":"temp","unit":"m","value":9.1,"ok":false}],` +
		`"alerts":["calm","drift \"north\""],"battery":77,"note":"swell from the west"}`)
	b.SetBytes(int64(len(text)))
	var s Scanner
	for b.Loop() {
		s.Reset(text)
		s.Skip()
		s.End()
	}
	if s.Err() != nil {
		b.Fatal(s.Err())
	}
}
