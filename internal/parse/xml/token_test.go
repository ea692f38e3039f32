package xml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"
)

// ours writes the tokens of a document one a line, up to its end or the first that is wrong.
func ours(r io.Reader) (lines []string, err error) {
	t := newTokens(r)
	for {
		k, err := t.raw()
		if err != nil {
			return lines, err
		}
		at := t.line
		switch k.kind {
		case start:
			line := fmt.Sprintf("%d <%s|%s", at, k.name.space, k.name.local)
			for _, a := range k.attrs {
				line += fmt.Sprintf(" %s|%s=%q", a.name.space, a.name.local, a.value)
			}
			lines = append(lines, line)
		case end:
			lines = append(lines, fmt.Sprintf("%d </%s|%s", at, k.name.space, k.name.local))
		case text:
			lines = append(lines, fmt.Sprintf("%d %q", at, k.text))
		case directive:
			lines = append(lines, fmt.Sprintf("%d <!%s", at, k.text))
		}
	}
}

// theirs is ours by the standard library.
func theirs(text []byte) (lines []string, err error) {
	d := xml.NewDecoder(bytes.NewReader(text))
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	for {
		token, err := d.RawToken()
		if err != nil {
			return lines, err
		}
		at, _ := d.InputPos()
		switch k := token.(type) {
		case xml.StartElement:
			line := fmt.Sprintf("%d <%s|%s", at, k.Name.Space, k.Name.Local)
			for _, a := range k.Attr {
				line += fmt.Sprintf(" %s|%s=%q", a.Name.Space, a.Name.Local, a.Value)
			}
			lines = append(lines, line)
		case xml.EndElement:
			lines = append(lines, fmt.Sprintf("%d </%s|%s", at, k.Name.Space, k.Name.Local))
		case xml.CharData:
			lines = append(lines, fmt.Sprintf("%d %q", at, k))
		case xml.Directive:
			lines = append(lines, fmt.Sprintf("%d <!%s", at, k))
		}
	}
}

// agree holds both readers of a document against each other: what one refuses the other must refuse too, and all tokens before
// that are the same.
func agree(t *testing.T, text []byte, r io.Reader) {
	t.Helper()
	got, err := ours(r)
	want, wantErr := theirs(text)
	if (err == io.EOF) != (errors.Is(wantErr, io.EOF)) {
		t.Fatalf("%q ends with %v, want %v", text, err, wantErr)
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Fatalf("%q is read as\n%s\nwant\n%s", text, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

var documents = []string{
	log, "", "<a/>", "<a b='1' c=\"2\"/>", "<a\n b = '1'\r\n/>x", "<a>&lt;&#65;&#x42;&amp;&apos;&quot;&gt;</a>", "<a>&unknown;</a>", "<a>&#0;</a>",
	"<a>&#xD800;</a>", "<a>&#x110000;</a>", "<a>& b</a>", "<a>]]></a>", "<a>] ]> ]]</a>", "<a><![CDATA[x]]]]><![CDATA[>y & <z>]]></a>",
	"<a><!-- c --><!----></a>", "<a><!-- c -- d --></a>", "<a><!--->", "<!DOCTYPE a [<!ENTITY x '>'> <!-- > -->]><a/>", "<!DOCTYPE a",
	"<?xml version=\"1.0\" encoding=\"utf-16\"?><a/>", "<?xml version='1.1'?><a/>", "<?x y?><a/>", "<? x?>", "<a:b c:d='1' xmlns:c='u'/>",
	"<a:b:c/>", "<:a/>", "<a:/>", "<1/>", "<é/>", "<a\u00d7/>", "< a/>", "<a b/>", "<a b=1/>", "<a b='<'/>", "<a b='1", "<a b='1'c='2'/>",
	"<a / >", "</ a>", "</a b>", "</a >", "a\r\nb\rc\n<a>\r</a>\r", "<a>\xff</a>", "<a>\x01</a>", "<a>\uffff</a>", "<a b='\r\n\t'/>", "<a",
	"<", "<!", "<![", "<![CDATA[", "<!-", "<a>\u2028\U0001F600</a>", "<a b='&amp;&#10;' c='&lt'/>", "text", "\ufeff<a/>",
}

func TestTokensAsTheStandardLibrary(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 6))
	for _, text := range documents {
		agree(t, []byte(text), strings.NewReader(text))
		agree(t, []byte(text), iotest.OneByteReader(strings.NewReader(text)))
		agree(t, []byte(text), iotest.DataErrReader(strings.NewReader(text)))
	}
	for range 20_000 {
		// Pieces of documents in any order, and some bytes that are others.
		var text []byte
		for range 1 + random.IntN(4) {
			of := documents[random.IntN(len(documents))]
			if len(of) > 0 {
				from := random.IntN(len(of))
				text = append(text, of[from:from+random.IntN(len(of)-from+1)]...)
			}
		}
		for range random.IntN(3) {
			if len(text) > 0 {
				text[random.IntN(len(text))] = "<>&;/='\"!-[]? \r\na\xc3"[random.IntN(18)]
			}
		}
		agree(t, text, bytes.NewReader(text))
	}
}

// TestTokensAcrossBuffers reads a document of tokens of all lengths, of which many go on behind a buffer.
func TestTokensAcrossBuffers(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 6))
	var b strings.Builder
	b.WriteString("<log>")
	for b.Len() < 3*firstBuffer {
		fmt.Fprintf(&b, "<e at='%s'>%s<![CDATA[%s]]></e>\n", strings.Repeat("x", random.IntN(300)), strings.Repeat("y&amp;", random.IntN(60)),
			strings.Repeat("z", random.IntN(1+random.IntN(9000))))
	}
	b.WriteString("<long>" + strings.Repeat("w", 5*firstBuffer) + "</long></log>")
	agree(t, []byte(b.String()), strings.NewReader(b.String()))
	agree(t, []byte(b.String()), iotest.HalfReader(strings.NewReader(b.String())))
}

// FuzzTokens holds the tokens of any document against those of the standard library.
func FuzzTokens(f *testing.F) {
	for _, text := range documents {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) { agree(t, text, bytes.NewReader(text)) })
}

// BenchmarkTokens reads the tokens of observations.
func BenchmarkTokens(b *testing.B) {
	text := []byte("<log>" + strings.Repeat("<entry id=\"0001\" kind=\"lamp\"><depth unit=\"m\">12.50</depth><note>calm &amp; clear</note>"+
		"<reading><v>1.25</v></reading></entry>\n", 5000) + "</log>")
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		t := newTokens(bytes.NewReader(text))
		for {
			if _, err := t.next(); err != nil {
				break
			}
		}
	}
}
