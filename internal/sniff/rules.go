// Package sniff settles how an object is to be read from its first bytes: format, text encoding, dialect and header.
//
// What comes in is the beginning of an object and what the user stated; what goes out are Rules, each with the reason for
// it. A stated rule is never overridden. Candidate dialects are tried with the parser that will read the object, so the
// two never disagree.
package sniff

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/magic"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
)

// Format is how an object's records are written.
type Format string

// The formats that are read.
const (
	Delimited Format = "delimited"
	JSONLines Format = "json-lines"
	JSON      Format = "json"
	XML       Format = "xml"
	Parquet   Format = "parquet"
	Arrow     Format = "arrow"
	Avro      Format = "avro"
	ORC       Format = "orc"
	// Sheet is a sheet of a workbook.
	Sheet Format = "sheet"
)

// Noun names a format in a sentence.
func (f Format) Noun() string {
	switch f {
	case Delimited:
		return "delimited text"
	case JSONLines:
		return "a file of JSON lines"
	case JSON:
		return "a JSON document"
	case XML:
		return "an XML document"
	case Sheet:
		return "a sheet of a workbook"
	}
	return "a columnar file"
}

// ErrMore says that the beginning of the object holds no whole record, so that more of it must be seen.
var ErrMore = errors.New("the first record is longer than what was looked at")

// HeadBytes is how much of an object Settle wants to see first.
const HeadBytes = 256 << 10

// Rules is how an object is read.
type Rules struct {
	Format      Format
	Compression locate.Compression
	// Encoding is the WHATWG name of the text encoding; empty for formats that are no text.
	Encoding string
	// Dialect, Header, Names and Pad are for delimited text.
	Dialect delimited.Dialect
	// Records leads to the records of a JSON document; nil where the documents are the records.
	Records json.Path
	// Values says that the records of JSON are no objects, Foreseen that Records was found in a beginning of the document,
	// GeoJSON that the records are features (RFC 7946).
	Values, Foreseen, GeoJSON bool
	// Lenient takes NaN and the infinities for numbers of JSON.
	Lenient bool
	// Question is why Records is not settled, where there are several places or none is likely enough; Places are those that
	// were found, Single says that the object holds one document.
	Question error
	Places   []*json.Place
	Single   bool
	// Header says that the first record holds the names; HeaderRows is how many do.
	Header     bool
	HeaderRows int
	// Names are the columns' names in the source, all different.
	Names []string
	// First is the texts of the first record, HeaderText its raw text where it is the header.
	First      []string
	HeaderText string
	// Pad fills records that have too few fields with nulls, and sets aside what others have too many. SkipBlank makes blank lines
	// no records.
	Pad, SkipBlank bool
	// Keys are the names of the members of the first record of JSON, as far as it was looked at.
	Keys []string
	// Skip is how many lines stand above the table, and Title the first of them.
	Skip  int
	Title string
	// Least is how many fields a record must have so that those that it lacks at its end are null; 0 where it must have all.
	Least int
	// firstText is the raw text of the first record.
	firstText string
	// Reasons tells why, a line for each rule, in the order they are shown.
	Reasons []Reason
}

// Reason is one rule with its grounds.
type Reason struct {
	Rule, Value, Why string
	// Unsure is set when another reading was nearly as likely, Asked when it was so likely that the user must say which it is.
	Unsure, Asked bool
	// Instead is the flag that gives the other reading, and what it does.
	Instead string
}

// Stated is what the user fixed. What is nil or empty is to be decided.
type Stated struct {
	// Delimiter is one or more characters.
	Delimiter string
	// Quote is the quote character, 0 for none.
	Quote *byte
	// Comment is the character that begins comment lines, 0 for none.
	Comment *byte
	// Encoding is the name of the text encoding.
	Encoding string
	// Escape stands before quotes within quoted fields.
	Escape byte
	Trim   bool
	// Records leads to the records within a JSON or XML document.
	Records string
	// Sheet says that the text is the rows of a sheet, as lines of JSON.
	Sheet bool
	// Lists are members of records that something is to be done with: a document that has one is a record itself.
	Lists []string
	// Lenient takes NaN, Infinity and -Infinity for numbers of JSON.
	Lenient bool
	// Name is the object's location: its ending tells lines from a document where both are possible.
	Name string
	// SkipRows is how many lines at the start are passed over; it is taken care of before Settle sees anything.
	SkipRows int
	// HeaderRows is how many records hold the names, whose parts are joined by a space; 0 for none.
	HeaderRows *int
	// Columns are the names of the columns.
	Columns        []string
	Pad, SkipBlank bool
	// Widths are those of fields that nothing stands between, in characters.
	Widths []int
	// SkipStated says that SkipRows was stated, be it as 0, so that no other lines are passed over.
	SkipStated bool
}

func (r *Rules) because(rule, value, format string, args ...any) *Reason {
	r.Reasons = append(r.Reasons, Reason{Rule: rule, Value: value, Why: fmt.Sprintf(format, args...)})
	return &r.Reasons[len(r.Reasons)-1]
}

// columnarFormats are the columnar formats that are read, by the bytes they begin with.
var columnarFormats = []struct {
	format             Format
	magic, shown, name string
}{{Parquet, magic.Parquet, "PAR1", "Parquet"}, {Arrow, magic.Arrow, "ARROW1", "Arrow IPC"}, {Avro, magic.Avro, "Obj1", "Avro"},
	{ORC, magic.ORC, "ORC", "ORC"}}

// isText reports whether the bytes have no control characters but those of texts: a text may well begin with the letters ORC.
func isText(head []byte) bool {
	return !bytes.ContainsFunc(head, func(c rune) bool { return c < ' ' && !strings.ContainsRune("\t\n\f\r\x1b", c) })
}

// fewControls is how many control characters make no text of none.
const fewControls = 8

// mostlyControls returns how many control characters, NUL bytes among them, a text holds that texts do not have, if they are
// more than a twentieth of it.
func mostlyControls(head []byte) int {
	const ones, high = 0x0101010101010101, 0x8080808080808080
	n := 0
	for at := 0; at < len(head); at++ {
		// Most words have no control character at all.
		for at+8 < len(head) {
			if word := binary.LittleEndian.Uint64(head[at:]); (word-' '*ones)&^word&high != 0 {
				break
			}
			at += 8
		}
		if c := head[at]; c < ' ' && c != '\t' && c != '\n' && c != '\f' && c != '\r' && c != '\x1b' {
			n++
		}
	}
	if 20*n <= len(head) || n < fewControls {
		return 0
	}
	return n
}

// forced reports whether what is stated holds for delimited text alone.
func (s Stated) forced() bool {
	return s.Delimiter != "" || s.HeaderRows != nil || s.Quote != nil || len(s.Columns) > 0 || len(s.Widths) > 0
}

// Settle decides the rules for one object. head is its first HeadBytes of text, or all of it when whole is set; encoding is what the
// text was decoded from.
// It returns ErrMore when the first record does not end within head; other errors are of the kind Input and say which formats
// could be read.
func Settle(head []byte, whole bool, packing locate.Compression, encoding Reason, stated Stated) (Rules, error) {
	r := Rules{Compression: packing, Lenient: stated.Lenient}
	for _, f := range columnarFormats {
		if !bytes.HasPrefix(head, []byte(f.magic)) || f.format == ORC && isText(head) {
			continue
		}
		r.Format = f.format
		r.because("format", f.name, "it begins with the bytes %s", f.shown)
		if packing != locate.Plain {
			return r, fault.New(fault.Input, "is a file of %s packed with %s, which cannot be read in part", f.name,
				packing).Try("unpack it first")
		}
		return r, nil
	}
	if bytes.HasPrefix(head, []byte(magic.Zip)) {
		return r, fault.New(fault.Input, "is a zip archive or a workbook, whose list of parts is at its end, so it cannot be read "+
			"from a stream").Try("save it unpacked as a file, and name that")
	}
	if n := mostlyControls(head); n > 0 && stated.Encoding == "" && !stated.forced() && stated.Records == "" {
		return r, fault.New(fault.Input, "is mostly no text: %d of its first %d bytes are control characters", n, len(head)).
			Try("convert it to text; if it is text, state its --encoding, or its --delimiter")
	}
	if stated.Sheet {
		return r, r.settleSheet(head, whole, stated)
	}
	r.Encoding = encoding.Value
	head = bytes.TrimPrefix(head, []byte("\ufeff"))
	if err := r.settleFormat(head, whole, stated); err != nil {
		return r, err
	}
	r.firstKeys(head)
	r.describeText(encoding)
	return r, nil
}

// mostKeys is how many names of a first record are noted.
const mostKeys = 100

// firstKeys notes the names of the members of the first record, where that stands at the beginning or is the first element of
// an array that does.
func (r *Rules) firstKeys(head []byte) {
	if r.Format != JSONLines && r.Format != JSON || len(r.Keys) > 0 || len(r.Records) > 1 {
		return
	}
	var s json.Scanner
	s.Reset(head)
	if s.Peek() == json.Array {
		s.Open()
		if !s.NextElement(0) {
			return
		}
	}
	if s.Peek() != json.Object {
		return
	}
	s.Open()
	for n := 0; ; n++ {
		key, escaped, ok := s.NextKey(n)
		if !ok {
			return
		}
		key = s.Name(key, escaped)
		if len(r.Keys) == mostKeys {
			return
		}
		r.Keys = append(r.Keys, string(key))
		s.Skip()
	}
}

// describeText puts the rules that hold for any text before the others.
func (r *Rules) describeText(encoding Reason) {
	dialect := r.Reasons[1:]
	r.Reasons = append([]Reason{}, r.Reasons[0])
	why := "the first bytes are those of no compression"
	if r.Compression != locate.Plain {
		why = "told by its first bytes, not by its name"
	}
	r.because("compression", string(r.Compression), "%s", why)
	r.Reasons = append(append(r.Reasons, encoding), dialect...)
}

// lastRune returns how much of b is left when a rune cut off at its end is dropped.
func lastRune(b []byte) int {
	for n := 1; n < utf8.UTFMax && n <= len(b); n++ {
		if c := b[len(b)-n]; utf8.RuneStart(c) {
			if c >= utf8.RuneSelf && !utf8.FullRune(b[len(b)-n:]) {
				return len(b) - n
			}
			break
		}
	}
	return len(b)
}

// settleFormat tells JSON from delimited text and settles the dialect of the latter.
func (r *Rules) settleFormat(head []byte, whole bool, stated Stated) error {
	text := bytes.TrimLeft(head, " \t\r\n\x1e")
	if len(text) > 0 && !stated.forced() {
		markup := text[0] == '<' && len(text) > 1 && (text[1] == '?' || text[1] == '!' || letter(text[1]))
		switch {
		case markup:
			// Which element is a record is seen only in the document as a whole.
			r.Format = XML
			r.because("format", "XML", "it begins with <%c", text[1])
			return nil
		case stated.Records != "":
			return r.useRecords(stated.Records)
		case text[0] == '{' || text[0] == '[' && (beginsArray(text, whole) || stated.namedDocument() || stated.namedLines()):
			return r.settleJSON(text, whole, stated)
		case stated.isScalars(text):
			r.Format, r.Values = JSON, true
			r.because("format", "JSON", "by its name, and the first line is one value")
			r.because("records", "$", "each value is one, in the column %s", json.ValueColumn)
			return nil
		}
	}
	return r.settleDelimited(head, whole, stated)
}

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }
