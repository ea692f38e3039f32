package xml

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"trevak/internal/fault"
)

const log = `<?xml version="1.0" encoding="ISO-8859-1"?>
<log xmlns:o="urn:orrin" made="2031-05-01">
  <o:entry id="0001" o:kind="lamp">
    <depth unit="m">12.50</depth><note>a &lt;b&gt; "c"</note>
    <reading><v>1</v></reading>
    <reading><v>2.5</v></reading><empty/>
  </o:entry> <entry id="2"><reading><v>3</v></reading>
    <ok>TRUE</ok><note><![CDATA[x < y]]></note></entry>
  <entry id="3"/>
</log>`

func records(t testing.TB, text, stated string) ([]string, error) {
	t.Helper()
	s, err := Survey(strings.NewReader(text), stated)
	if err != nil {
		return nil, err
	}
	all, err := io.ReadAll(NewReader(strings.NewReader(text), s))
	var out []string
	line := 1
	decoder := json.NewDecoder(strings.NewReader(string(all)))
	for err == nil {
		var raw json.RawMessage
		if decoder.Decode(&raw) != nil {
			break
		}
		line = 1 + strings.Count(string(all[:decoder.InputOffset()]), "\n")
		out = append(out, fmt.Sprintf("%d:%s", line, raw))
	}
	return out, err
}

func TestRecords(t *testing.T) {
	got, err := records(t, log, "")
	want := []string{
		`3:{"id":"0001","kind":"lamp","depth":{"unit":"m","text":12.50},"note":"a <b> \"c\"","reading":[{"v":1},{"v":2.5}],"empty":null}`,
		`7:{"id":2,"reading":[{"v":3}],"ok":true,"note":"x < y"}`,
		`9:{"id":3}`,
	}
	if err != nil || strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s, %v\nwant\n%s", strings.Join(got, "\n"), err, strings.Join(want, "\n"))
	}
	if got, err = records(t, log, "reading"); err != nil || strings.Join(got, " ") != `5:{"v":1} 6:{"v":2.5} 7:{"v":3}` {
		t.Errorf("%q, %v", got, err)
	}
}

func TestSurveyRefuses(t *testing.T) {
	tests := []struct{ text, stated, want string }{
		{"<a><b/></a>", "", "no element that repeats"},
		{"<a><b/><b/><c/><c/></a>", "", "could be records: /a/b, /a/c"},
		{"<a><b/></a>", "/a/x", `no element "/a/x"`},
		{"<a><b></a>", "", "not well-formed XML"},
		{"<!DOCTYPE a [<!ENTITY x 'y'>]><a><b>&x;</b><b/></a>", "", "not well-formed XML"},
		{strings.Repeat("<a>", 300), "", "more than 200 deep"},
	}
	for _, test := range tests {
		if got, err := records(t, test.text, test.stated); err == nil || fault.KindOf(err) == 0 || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%.60s: %q, %v, want %q", test.text, got, err, test.want)
		}
	}
	if s, err := Survey(strings.NewReader("<a><b/></a>"), "b"); err != nil || s.String() != "/a/b" {
		t.Errorf("%s, %v", s, err)
	}
}

// FuzzReader checks that whatever is read is JSON, and that nothing panics.
func FuzzReader(f *testing.F) {
	f.Add(log, "")
	f.Add("<a><b c='1'>x</b><b/></a>", "b")
	f.Add("<a>", "")
	f.Fuzz(func(t *testing.T, text, stated string) {
		s, err := Survey(strings.NewReader(text), stated)
		if err != nil {
			return
		}
		all, err := io.ReadAll(NewReader(strings.NewReader(text), s))
		if err != nil {
			t.Fatalf("what could be surveyed cannot be read: %v", err)
		}
		for _, record := range strings.SplitAfter(string(all), "} ") {
			if record = strings.TrimSpace(record); record != "" && strings.HasSuffix(record, "}") && strings.Count(record, "{") == 1 && !json.Valid([]byte(record)) {
				t.Fatalf("%q is no JSON", record)
			}
		}
	})
}
