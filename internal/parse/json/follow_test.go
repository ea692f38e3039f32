package json

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf8"

	"trevak/internal/parse"
)

func path(t *testing.T, text string) Path {
	t.Helper()
	p, err := ParsePath(text)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestParsePath(t *testing.T) {
	for text, want := range map[string]string{
		"$": "$", "$[*]": "$[*]", "$.*": "$.*", "$.a[*]": "$.a[*]", "$['a key']['b'].c[*]": "$['a key'].b.c[*]",
		`$["3166-1"][*]`: "$['3166-1'][*]",
		`$['it\'s'].*`:   `$['it\'s'].*`, "$..readings[*]": "$..readings[*]", "$.a[*].b[*]": "$.a[*].b[*]", "$[0]": "$[0]",
		"$[2:]": "$[2::1]", "$[1:9:2]": "$[1:9:2]",
		"$['a','b'][*]": "$['a','b'][*]", "$.méduse[*]": "$.méduse[*]", `$['\u0061']`: "$.a",
	} {
		p, err := ParsePath(text)
		if err != nil || p.String() != want {
			t.Errorf("%s: %s, %v, want %s", text, p, err, want)
		}
		if again, err := ParsePath(p.String()); err != nil || again.String() != want {
			t.Errorf("%s is written %s: %v", text, p, err)
		}
	}
	for _, text := range []string{"", "a[*]", "$a", "$['a[*]", "$.[*]", "$.", "$[-1]", "$[1:2:0]", "$[?@.a>1]", "$[x]", "$[1:2:3:4]",
		"$.a b['", `$['\x']`} {
		if p, err := ParsePath(text); err == nil {
			t.Errorf("%q: %q", text, p)
		}
	}
}

// follow reads all records of a document by a path, each with its line and, where it has one, its offset.
func follow(t *testing.T, text string, how Following, size int) ([]string, error) {
	t.Helper()
	body, err := Follow(iotest.OneByteReader(strings.NewReader(text)), how)
	if err != nil {
		return nil, err
	}
	var failed error
	got := readValues(t, readerFunc(func(p []byte) (int, error) {
		n, err := body.Read(p)
		if err != nil && err != io.EOF {
			failed, err = err, io.EOF
		}
		return n, err
	}), parse.Limits{BlockBytes: size, StartOffset: body.Offset, StartLine: body.Line})
	return got, failed
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func TestFollow(t *testing.T) {
	text := "\ufeff{\n\"skip\": {\"items\": [1, \"]}\\\"\"]}, \"n\": null, \"d\\u0061ta\":\n {\"x\": 1.5, \"items\": [ {\"a\": " +
		"\"]\"},\n {\"b\": [[]]}, 3 ], \"more\": [{\"c\": 1}]} }"
	for size := 1; size < 90; size++ {
		got, err := follow(t, text, Following{Path: path(t, "$.data.items[*]")}, size)
		if want := "3@84:{\"a\": \"]\"} 4@97:{\"b\": [[]]} 4@110:3"; err != nil || strings.Join(got, " ") != want {
			t.Fatalf("blocks of %d: %q, %v, want %q", size, got, err, want)
		}
	}
	for place, reason := range map[string]string{"$.absent[*]": `there is no member "absent" in $`, "$.n[*]": "$.n is neither",
		"$.skip.items.x[*]": `no member "x" in $.skip.items`} {
		if _, err := follow(t, text, Following{Path: path(t, place)}, 100); err == nil || !strings.Contains(err.Error(), reason) ||
			!strings.Contains(err.Error(), place) {
			t.Errorf("%s: %v, want %q", place, err, reason)
		}
	}
	if _, err := follow(t, `[{"a":1},{"b"`, Following{Path: Elements}, 100); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a document that is cut short gives %v", err)
	}
}

func TestFollowPaths(t *testing.T) {
	tests := []struct{ path, text, want string }{
		{"$.*", `{"OS-1": {"depth": 3}, "OS-2": {}, "OS-3": 5, "a\"b": [1, 2]}`,
			`{"_key":"OS-1","depth": 3} {"_key":"OS-2" } {"_key":"OS-3","value":5} {"_key":"a\"b","value":[1, 2]}`},
		{"$.areas.*", `{"n": 1, "areas": {"a": {"x": 1}}, "m": [2]}`, `{"_key":"a","x": 1}`},
		{"$.areas.*.buoys[*]", `{"areas": {"a": {"buoys": [{"x": 1}, {"x": 2}]}, "b": {"none": []}}}`,
			`{"_key":"a","x": 1} {"_key":"a","x": 2}`},
		{"$.*.*", `{"a": {"b": 1, "c": 2}}`, `{"_key":"a","_key2":"b","value":1} {"_key":"a","_key2":"c","value":2}`},
		{"$[*]", `[1, null, "x", [2]]`, `{"value":1} {"value":null} {"value":"x"} {"value":[2]}`},
		{"$[*]", `{"a": {"x": 1}}`, `{"_key":"a","x": 1}`},
		{"$[1:3]", `[{"a":0},{"a":1},{"a":2},{"a":3}]`, `{"a":1} {"a":2}`},
		{"$['a','c'][*]", `{"a":[{"x":1}],"b":[{"x":2}],"c":[{"x":3}]}`, `{"x":1} {"x":3}`},
		{"$..buoys[*]", `{"buoys":[{"x":1}],"in":{"deep":[{"buoys":[{"x":2}]}]}}`, `{"x":1} {"x":2}`},
		{"$.a[*]", "{\"a\":[{\"x\":1}]}\n{\"a\":[{\"x\":2}]}", `{"x":1} {"x":2}`},
		{"$.a[*]", `{"a":[]}`, ``},
	}
	for _, test := range tests {
		for _, size := range []int{1, 7, 1 << 12} {
			got, err := follow(t, test.text, Following{Path: path(t, test.path)}, size)
			for i := range got {
				_, got[i], _ = strings.Cut(got[i], ":")
			}
			if err != nil || strings.Join(got, " ") != test.want {
				t.Errorf("%s in %s: %s, %v, want %s", test.path, test.text, got, err, test.want)
			}
		}
	}
	for text, reason := range map[string]string{
		`{"a":[{"x":1}],"b":[{"y":1},{"y":2}]}`: "could be records at $.b[*]",
		`{"a":[{"x":1}]} {"a":[]}`:              "another document",
		`{"a":[{"x":1}] "b"}`:                   "comma",
		`{"a":[{"x":1}], 5}`:                    "key",
	} {
		if _, err := follow(t, text, Following{Path: path(t, "$.a[*]"), Foreseen: true}, 100); err == nil ||
			!strings.Contains(err.Error(), reason) {
			t.Errorf("%s: %v, want %q", text, err, reason)
		}
	}
}

func TestLookAt(t *testing.T) {
	alike := func(n int, member string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, `,"OS-%d":`+member, i, i)
		}
		return "{" + b.String()[1:] + "}"
	}
	tests := []struct{ text, root, inner string }{
		{`{"a":[{"b":[{}]}],"c":{"d":[{}],"e":[1]},"f":{}}`, "", "$.a[*] $.c.d[*]"},
		{`{"meta":{"n":1},"rows":[{"x":1},{"x":`, "", "$.rows[*]"},
		{`{"a":[[{}]],"b":[]}`, "", ""},
		{alike(6, `{"depth":%d,"area":"x"}`), "$.*", ""},
		{alike(4, `{"depth":%d,"area":"x"}`), "", ""},
		{`{"n":1,"buoys":` + alike(30, `{"depth":%d}`) + `}`, "", "$.buoys.*"},
		{`{"n":1,"buoys":` + alike(6, `{"depth":%d}`) + `}`, "", ""},
		{alike(60, `%d`), "$.*", ""},
		{`{"id":1,"name":"x","depth":3,"area":"y","note":"z"}`, "", ""},
		{`{"a":{"b":1},"c":{"d":1},"e":{"f":1},"g":{"h":1},"i":{"j":1},"k":{"l":1}}`, "", ""},
	}
	for _, test := range tests {
		look := LookAt([]byte(test.text))
		root, inner := "", []string{}
		if look.Root.Records(true) {
			root = look.Root.Path.String()
		}
		for _, p := range look.Inner {
			inner = append(inner, p.Path.String())
		}
		if root != test.root || root == "" && strings.Join(inner, " ") != test.inner {
			t.Errorf("%.60s: root %q, inner %q, want %q, %q", test.text, root, inner, test.root, test.inner)
		}
	}
}

// FuzzFollow checks that following a path through any text ends, that records of a well-formed document are well-formed, and
// that blocks of any size give the same.
func FuzzFollow(f *testing.F) {
	for _, seed := range []string{`{"a":{"k":{"x":1}}}`, `[1,[2],{"a":3}]`, `{"a":[`, `{"a":{"":{}}}`,
		"{\"a\":{\"b\":[{}, {}]}} {\"a\":5}"} {
		for _, p := range []string{"$.a.*", "$[*]", "$..a[*]", "$.*.*", "$"} {
			f.Add(seed, p, true)
		}
	}
	f.Fuzz(func(t *testing.T, text, place string, foreseen bool) {
		p, err := ParsePath(place)
		if err != nil || len(text) > 1000 {
			t.Skip()
		}
		how := Following{Path: p, Foreseen: foreseen}
		got, err := follow(t, text, how, 1<<12)
		small, err2 := follow(t, text, how, 5)
		if err == nil && err2 == nil && len(got) != len(small) {
			t.Fatalf("%d records in one block, %d in small ones", len(got), len(small))
		}
		if err == nil && json.Valid([]byte(text)) && utf8.ValidString(text) {
			for _, record := range got {
				_, value, _ := strings.Cut(record, ":")
				if !json.Valid([]byte(value)) {
					t.Fatalf("%s of %s gives %s", place, text, value)
				}
			}
		}
		LookAt([]byte(text))
	})
}
