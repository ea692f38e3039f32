package sniff

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"golang.org/x/text/encoding/htmlindex"

	"trevak/internal/fault"
	"trevak/internal/locate"
)

var utf = Reason{Rule: "encoding", Value: UTF8, Why: "stated"}

func TestSettle(t *testing.T) {
	stations := "Station Code;Sea Area;Depth (m);Note\nOS-1;Cairn Bay;12,5;calm, clear\nOS-2;The Narrows;3,25;\nOS-3;Marrow " +
		"Deep;140,0;swell\n"
	tests := []struct {
		name, head string
		format     Format
		delimiter  byte
		header     bool
		names      string
	}{
		{"comma with a header", "id,name,ok\n1,a,true\n2,b,false\n", Delimited, ',', true, "id name ok"},
		{"semicolons with decimal commas", stations, Delimited, ';', true, "Station Code Sea Area Depth (m) Note"},
		{"semicolons and decimal commas alone", "1;2,5;3,5\n2;4,5;5,5\n3;6,5;8,5\n", Delimited, ';', false, "c1 c2 c3"},
		{"tabs", "a\tb\n1\t2\n", Delimited, '\t', true, "a b"},
		{"pipes without a header", "2031-05-01|OS-1|\"clean, dry\"|ok\n2031-05-02|OS-2|\"wet\nrope\"|ok\n", Delimited, '|', false,
			"c1 c2 c3 c4"},
		{"commas within quotes", "name|text\nx|\"a, b, c, d\"\ny|\"e, f, g, h\"\nz|1\n", Delimited, '|', true, "name text"},
		{"one column", "name\nfirst\nsecond\nthird\n", Delimited, 0xff, true, "name"},
		{"all text without a header", "wave,calm\ntide,calm\nwave,rough\ntide,calm\n", Delimited, ',', false, "c1 c2"},
		{"a byte order mark", "\ufeffid,name\n1,a\n", Delimited, ',', true, "id name"},
		{"names that repeat or are missing", "id,id,,\n1,2,3,4\n", Delimited, ',', true, "id id 2 c3 c4"},
		{"comments", "# made\n# today\n1\ta\n2\tb\n", Delimited, '\t', false, "c1 c2"},
		{"carriage returns alone", "id,name\r1,a\r2,b\r", Delimited, ',', true, "id name"},
		{"carriage returns among line feeds", "id,name\r1,a\n2,b\r3,c\n", Delimited, ',', true, "id name"},
		{"a header behind a hash", "#id,name\n1,a\n2,b\n", Delimited, ',', true, "#id name"},
		{"a short record at the top", "AD\t+4230\tx\nAE\t+2518\ty\tsee note\nAF\t+3431\tz\tsee note\n", Delimited, '\t', false,
			"c1 c2 c3 c4"},
		{"json lines", "{\"a\": 1}\n{\"a\": 2}\n", JSONLines, 0, false, ""},
		{"one json record", "\n {\"a\": {\"b\": [1]}}", JSONLines, 0, false, ""},
		{"a json array", "[\n {\"a\": 1}\n]", JSON, 0, false, ""},
		{"json documents", "{\n \"a\": 1\n}\n{\n \"a\": 2\n}", JSON, 0, false, ""},
		{"records in a document", "{\n \"n\": 2, \"data\": {\"items\": [{\"a\": [{}]}]}\n}", JSON, 0, false, ""},
		{"markup", "<?xml version='1.0'?><a/>", XML, 0, false, ""},
		{"columnar", "PAR1....", Parquet, 0, false, ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r, err := Settle([]byte(test.head), true, locate.Plain, utf, Stated{})
			if err != nil {
				t.Fatal(err)
			}
			if r.Format != test.format || r.Dialect.Delimiter != test.delimiter || r.Header != test.header ||
				strings.Join(r.Names, " ") != test.names {
				t.Errorf("%s, delimiter %q, header %v, names %q; %+v", r.Format, r.Dialect.Delimiter, r.Header, r.Names, r.Reasons)
			}
			for _, reason := range r.Reasons {
				if reason.Value == "" || reason.Why == "" {
					t.Errorf("the rule %q is without a value or a reason", reason.Rule)
				}
			}
		})
	}
}

func TestStatedRulesHold(t *testing.T) {
	no := 0
	r, err := Settle([]byte("a:b,c\n1:2,3\n"), true, locate.Plain, utf, Stated{Delimiter: ":", HeaderRows: &no})
	if err != nil || r.Dialect.Delimiter != ':' || r.Header || fmt.Sprint(r.Names) != "[c1 c2]" {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err = Settle([]byte("{\"a\"},b\n"), true, locate.Plain, utf, Stated{HeaderRows: &no}); err != nil {
		t.Errorf("a stated header makes it delimited: %v", err)
	}
	two, quote := 2, byte('\'')
	r, err = Settle([]byte("depth||at\n(m)||\n1||'a||b'\n"), true, locate.Plain, utf,
		Stated{Delimiter: "||", HeaderRows: &two, Quote: &quote})
	if err != nil || fmt.Sprint(r.Names) != "[depth (m) at]" || r.HeaderRows != 2 || r.Dialect.Rest != "|" {
		t.Errorf("%+v, %v", r, err)
	}
	r, err = Settle([]byte("1,2\n3,4\n"), true, locate.Plain, utf, Stated{Columns: []string{"x", "y"}})
	if err != nil || fmt.Sprint(r.Names) != "[x y]" || r.Header {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err = Settle([]byte("1,2\n3,4\n"), true, locate.Plain, utf, Stated{Columns: []string{"x"}}); fault.KindOf(err) != fault.Usage {
		t.Errorf("%v", err)
	}
}

func TestEncodings(t *testing.T) {
	text := "name,depth\nÜber Grund,12 µ\nCafé – “Bay”,3\n"
	encode := func(label string) string {
		e, err := htmlindex.Get(label)
		if err != nil {
			t.Fatal(err)
		}
		out, err := e.NewEncoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	tests := []struct{ raw, want string }{
		{text, "utf-8"}, {"\ufeff" + text, "utf-8"}, {"plain", "utf-8"}, {encode("utf-16le"), "utf-16le"},
		{encode("utf-16be"), "utf-16be"},
		{"\xff\xfe" + encode("utf-16le"), "utf-16le"}, {"\xfe\xff" + encode("utf-16be"), "utf-16be"},
		{encode("windows-1252"), "windows-1252"},
		{"caf\xe9,1\nna\xefve,2\n", "windows-1252"}, {"Über Müller und Käse \xff\n", "utf-8"},
	}
	for _, test := range tests {
		r := DetectEncoding([]byte(test.raw))
		if r.Value != test.want || r.Why == "" {
			t.Errorf("%q: %+v, want %s", test.raw, r, test.want)
		}
		decoded, err := Decode(iotest.OneByteReader(strings.NewReader(test.raw)), r.Value)
		if err != nil {
			t.Fatal(err)
		}
		got, err := io.ReadAll(decoded)
		if strings.Contains(test.raw, "\x00") || strings.Contains(test.raw, "\x96") {
			if err != nil || strings.TrimPrefix(string(got), "\ufeff") != text {
				t.Errorf("%s gives %q, %v", r.Value, got, err)
			}
		}
	}
	// Half a surrogate pair must be noticed, not replaced.
	decoded, err := Decode(strings.NewReader("a\x00\x00\xd8b\x00"), "utf-16le")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(decoded); string(got) != "a\xffb" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	for label, want := range map[string]string{"latin1": "windows-1252", "ISO-8859-2": "iso-8859-2", "sjis": "shift_jis",
		"utf8": "utf-8"} {
		if got, err := ParseEncoding(label); got != want || err != nil {
			t.Errorf("%s: %s, %v", label, got, err)
		}
	}
	if _, err := ParseEncoding("klingon"); fault.KindOf(err) != fault.Usage {
		t.Errorf("%v", err)
	}
}

func TestSettleRefuses(t *testing.T) {
	tests := []struct{ head, reason string }{
		{strings.Repeat("\x00\x01\x02a", 50), "mostly no text"},
		{"# x\n# y\n\n", "no record"},
	}
	for _, test := range tests {
		_, err := Settle([]byte(test.head), true, locate.Plain, utf, Stated{})
		if fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), test.reason) {
			t.Errorf("%q: %v, want %q", test.head, err, test.reason)
		}
	}
}

func FuzzSettle(f *testing.F) {
	for _, seed := range []string{"a,b\n1,2\n", "{\"a\":1}\n", "[1]", "\"", "#\n#\n1", "a\xff,b\n", "\n\n\n", ";,\t|"} {
		f.Add([]byte(seed), true)
	}
	f.Fuzz(func(t *testing.T, head []byte, whole bool) {
		r, err := Settle(head, whole, locate.Plain, utf, Stated{})
		if err == nil && r.Format == Delimited && len(r.Names) == 0 {
			t.Fatalf("%q gives no columns", head)
		}
	})
}
