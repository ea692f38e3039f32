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

func shapeOf(text string, options Options) (Shape, error) {
	s, err := Look(strings.NewReader(text), options)
	if err != nil {
		return Shape{}, err
	}
	c, err := s.Choose()
	if err == nil {
		err = c.Question
	}
	return s.Shape(c.Records), err
}

func records(t testing.TB, text, stated string) ([]string, error) {
	t.Helper()
	s, err := shapeOf(text, Options{Records: stated})
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
		{"<a><b/><b/><c/><c/></a>", "", "could be records: /a/b (2), /a/c (2)"},
		{"<a><b/></a>", "/a/x", `no element "/a/x"`},
		{"<a><b></a>", "", "not well-formed XML: element <b> is closed by </a>"},
		{"<a><b></b>", "", "element <a> is not closed"},
		{"<a/><a/>", "", "second document"},
		{"<a><b><c/></b><b/></a>", "b,/a/b/c", "lies in it"},
		{"<!DOCTYPE a [<!ENTITY x 'y'>]><a><b>&x;</b><b/></a>", "", "not well-formed XML"},
		{strings.Repeat("<a>", 300), "", "more than 200 deep"},
	}
	for _, test := range tests {
		if got, err := records(t, test.text, test.stated); err == nil || fault.KindOf(err) == 0 ||
			!strings.Contains(err.Error(), test.want) {
			t.Errorf("%.60s: %q, %v, want %q", test.text, got, err, test.want)
		}
	}
	if s, err := shapeOf("<a><b/></a>", Options{Records: "b"}); err != nil || s.String() != "/a/b" {
		t.Errorf("%s, %v", s, err)
	}
}

// FuzzReader checks that whatever is read is JSON, and that nothing panics.
func FuzzReader(f *testing.F) {
	f.Add(log, "")
	f.Add("<a><b c='1'>x</b><b/></a>", "b")
	f.Add("<a>", "")
	f.Fuzz(func(t *testing.T, text, stated string) {
		s, err := shapeOf(text, Options{Records: stated})
		if err != nil {
			return
		}
		all, err := io.ReadAll(NewReader(strings.NewReader(text), s))
		if err != nil {
			t.Fatalf("what could be surveyed cannot be read: %v", err)
		}
		for _, record := range strings.SplitAfter(string(all), "} ") {
			if record = strings.TrimSpace(record); record != "" && strings.HasSuffix(record, "}") && strings.Count(record, "{") == 1 &&
				!json.Valid([]byte(record)) {
				t.Fatalf("%q is no JSON", record)
			}
		}
	})
}

func TestWhichElementsAreRecords(t *testing.T) {
	tests := []struct{ what, text, want string }{
		{"what repeats", "<log><e><a>1</a></e><e><a>2</a></e></log>", "log/e"},
		{"the outermost of what repeats", "<log><e><a>1</a><a>2</a></e><e><a>2</a></e></log>", "log/e"},
		{"what holds most", "<log><units><u a='1'/><u a='2'/></units><e a='1' b='2' c='3'/><e a='1' b='2' c='3'/><e a='1' b='2' " +
			"c='3'/></log>", "log/e"},
		{"the only child of the root", "<log><e><a>1</a><t>x</t><t>y</t></e></log>", "log/e"},
		{"nothing repeats", "<log><a>1</a><b>2</b></log>", "log"},
		{"parts of one record", "<log><id>1</id><area>x</area><at>2031</at><t>x</t><t>y</t></log>", "log"},
		{"a feed with one entry",
			"<feed xmlns='http://www.w3.org/2005/Atom'><title>x</title><entry><id>1</id><link/><link/></entry></feed>", "feed/entry"},
		{"a single waypoint", "<gpx><wpt lat='57.1' lon='-5.5'><name>x</name></wpt></gpx>", "gpx/wpt"},
		{"several that could be", "<log><a x='1'/><a x='2'/><b y='1'/><b y='2'/></log>", "?"},
	}
	for _, test := range tests {
		s, err := Look(strings.NewReader(test.text), Options{})
		if err != nil {
			t.Fatal(err)
		}
		c, err := s.Choose()
		got := strings.Join(c.Records, ",")
		if c.Question != nil {
			got = "?"
		}
		if err != nil || got != test.want || c.Why == "" {
			t.Errorf("%s: %s, %v, %v, want %s", test.what, got, c.Why, err, test.want)
		}
	}
}

func TestNothingOfAnElementIsLost(t *testing.T) {
	tests := []struct {
		what, text string
		options    Options
		want       string
	}{
		{"own text beside an attribute called text", "<r><c><s text='x'>5</s></c><c><s>6</s></c></r>", Options{},
			`{"s":{"text":"x","own_text":5}} {"s":{"own_text":6}}`},
		{"own text beside a child called text", "<r><c><text>x</text> own</c><c/></r>", Options{}, `{"text":"x","own_text":"own"} {}`},
		{"attributes on some", "<r><c><n>a</n></c><c><n id='1'>b</n></c><c><n/></c></r>", Options{},
			`{"n":{"text":"a"}} {"n":{"id":1,"text":"b"}} {"n":null}`},
		{"defaults", "<!DOCTYPE r [<!ATTLIST c w CDATA \"50\" k (a|b) #REQUIRED x CDATA #IMPLIED o:f CDATA #FIXED 'y &amp; " +
			"z'>]><r><c k='a'/><c w='8' k='b'/></r>", Options{},
			`{"k":"a","w":50,"f":"y & z"} {"w":8,"k":"b","f":"y & z"}`},
		{"white space other than XML's", "<r><c><n>\u00a0a\u2003</n></c><c><n> b\n</n></c></r>", Options{},
			"{\"n\":\"\u00a0a\u2003\"} {\"n\":\"b\"}"},
		{"processing instructions, comments and sections", "<r><?x y?><c><n>a<!-- b -->c<![CDATA[<d>]]></n></c><c/></r>", Options{},
			`{"n":"ac<d>"} {}`},
		{"mixed content", "<r><c><n>a <b k='1'>bold</b> end</n></c><c><n>plain</n></c></r>", Options{MixedText: true},
			`{"n":"a <b k='1'>bold</b> end"} {"n":"plain"}`},
		{"mixed content with attributes", "<r><c><n id='1'>a <b>bold</b></n></c><c><n>5</n></c></r>", Options{MixedText: true},
			`{"n":{"id":1,"text":"a <b>bold</b>"}} {"n":{"text":"5"}}`},
		{"mixed content of records", "<r><c id='1'>a <b>bold</b><i/></c><c>5</c></r>", Options{MixedText: true},
			`{"id":1,"text":"a <b>bold</b><i/>"} {"text":"5"}`},
		{"prefixes", "<r xmlns:m='u'><c><t>a</t><m:t>b</m:t></c><c/></r>", Options{Prefixes: true}, `{"t":"a","m_t":"b"} {}`},
		{"names without prefixes", "<r xmlns:m='u'><c><t>a</t><m:t>b</m:t></c><c/></r>", Options{}, `{"t":["a","b"]} {}`},
		{"records of several kinds", "<r><a x='1'/><b y='2'/><a x='3'/></r>", Options{Records: "a,b"},
			`{"_kind":"a","x":1} {"_kind":"b","y":2} {"_kind":"a","x":3}`},
	}
	for _, test := range tests {
		s, err := shapeOf(test.text, test.options)
		if err != nil {
			t.Fatalf("%s: %v", test.what, err)
		}
		all, err := io.ReadAll(NewReader(strings.NewReader(test.text), s))
		if got := strings.TrimSpace(strings.ReplaceAll(string(all), "\n", "")); err != nil || got != test.want {
			t.Errorf("%s: %s, %v, want %s", test.what, got, err, test.want)
		}
	}
}
