package sheet

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
)

// readWorkbook reads the sheets' names and parts, and from when dates are counted (ISO/IEC 29500-1, 18.2).
func (b *Book) readWorkbook() error {
	parts := map[string]string{}
	err := b.each("xl/_rels/workbook.xml.rels", func(_ *xml.Decoder, e xml.StartElement) error {
		if e.Name.Local == "Relationship" && strings.HasSuffix(attribute(e, "Type"), "/worksheet") {
			target := attribute(e, "Target")
			if !strings.HasPrefix(target, "/") {
				target = path.Join("xl", target)
			}
			parts[attribute(e, "Id")] = strings.TrimPrefix(target, "/")
		}
		return nil
	})
	if err != nil {
		return err
	}
	return b.each("xl/workbook.xml", func(_ *xml.Decoder, e xml.StartElement) error {
		switch e.Name.Local {
		case "workbookPr":
			if yes := attribute(e, "date1904"); yes == "1" || yes == "true" {
				b.since = days1904
			}
		case "sheet":
			id := ""
			for _, a := range e.Attr {
				if a.Name.Local == "id" && a.Name.Space != "" {
					id = a.Value
				}
			}
			if part := parts[id]; part != "" { // others are charts
				s := Sheet{Name: attribute(e, "name"), Hidden: attribute(e, "state") != "" && attribute(e, "state") != "visible",
					member: part}
				if f := b.files[part]; f != nil {
					s.Size = int64(f.CompressedSize64)
				}
				b.Sheets = append(b.Sheets, s)
			}
		}
		return nil
	})
}

// prepare reads the texts that cells share, and which formats are those of dates.
func (b *Book) prepare() error {
	b.shared = &shared{}
	if err := b.readShared(); err != nil {
		return err
	}
	return b.readStyles()
}

// shared are texts one behind the other.
type shared struct {
	text []byte
	ends []int
}

func (s *shared) at(i int) ([]byte, bool) {
	if i < 0 || i >= len(s.ends) {
		return nil, false
	}
	start := 0
	if i > 0 {
		start = s.ends[i-1]
	}
	return s.text[start:s.ends[i]], true
}

// readShared reads the table of shared texts (18.4.9). Phonetic runs are no part of them.
func (b *Book) readShared() error {
	return b.each("xl/sharedStrings.xml", func(d *xml.Decoder, e xml.StartElement) error {
		if e.Name.Local != "si" {
			return nil
		}
		text, err := textOf(d, "si")
		if err != nil {
			return err
		}
		b.shared.text = append(b.shared.text, text...)
		b.shared.ends = append(b.shared.ends, len(b.shared.text))
		if len(b.shared.text) > mostShared {
			return fmt.Errorf("its cells share more than %d bytes of text", mostShared)
		}
		return nil
	})
}

// textOf returns what stands in the elements t up to the end of an element.
func textOf(d *xml.Decoder, end string) (text []byte, err error) {
	in, phonetic := false, 0
	for {
		token, err := d.RawToken()
		if err != nil {
			return nil, whole(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "t":
				in = phonetic == 0
			case "rPh":
				phonetic++
			}
		case xml.CharData:
			if in {
				text = append(text, t...)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "t":
				in = false
			case "rPh":
				phonetic--
			case end:
				return unescape(text), nil
			}
		}
	}
}

// unescape puts characters in the places of _x000D_ and the like (22.9.2.19, ST_Xstring).
func unescape(text []byte) []byte {
	if !strings.Contains(string(text), "_x") {
		return text
	}
	var out []byte
	for i := 0; i < len(text); i++ {
		if i+7 <= len(text) && text[i] == '_' && text[i+1] == 'x' && text[i+6] == '_' {
			if n, err := strconv.ParseUint(string(text[i+2:i+6]), 16, 16); err == nil {
				out = append(out, string(rune(n))...)
				i += 6
				continue
			}
		}
		out = append(out, text[i])
	}
	return out
}

// whole makes the end of a part an error where more was to come.
func whole(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// readStyles reads which cell formats are those of dates and times (18.8.10, 18.8.30).
func (b *Book) readStyles() error {
	codes, formats := map[string]string{}, false
	return b.each("xl/styles.xml", func(_ *xml.Decoder, e xml.StartElement) error {
		switch e.Name.Local {
		case "numFmt":
			codes[attribute(e, "numFmtId")] = attribute(e, "formatCode")
		case "cellXfs":
			formats = true
		case "cellStyles", "dxfs":
			formats = false
		case "xf":
			if formats {
				id := attribute(e, "numFmtId")
				kind, known := builtIn[id]
				if code, ok := codes[id]; ok && !known {
					kind = kindOf(code)
				}
				b.styles = append(b.styles, kind)
			}
		}
		return nil
	})
}

// row makes the next row of a worksheet ready (18.3.1.73), after as many empty ones as its number asks for.
func (r *rows) row() error {
	if r.blanks > 0 {
		n := min(r.blanks, 4096)
		r.blanks -= n
		r.ready.WriteString(strings.Repeat("[]\n", int(n)))
		if r.blanks == 0 {
			r.emit()
		}
		return nil
	}
	for {
		token, err := r.tokens.RawToken()
		if err != nil {
			return err
		}
		e, ok := token.(xml.StartElement)
		if !ok || e.Name.Local != "row" {
			continue
		}
		number, err := strconv.Atoi(attribute(e, "r"))
		if err != nil {
			number = r.line + 1
		}
		if number <= r.line || number > 1<<20 {
			return fmt.Errorf("the row %d stands behind the row %d", number, r.line)
		}
		if err := r.readCells(); err != nil {
			return err
		}
		r.blanks = int64(number - r.line - 1)
		r.line = number - 1
		if r.blanks == 0 {
			r.emit()
		}
		return nil
	}
}

// readCells reads the cells of a row (18.3.1.4).
func (r *rows) readCells() error {
	r.cells = r.cells[:0]
	column := 0
	for {
		token, err := r.tokens.RawToken()
		if err != nil {
			return whole(err)
		}
		switch t := token.(type) {
		case xml.EndElement:
			if t.Name.Local == "row" {
				return nil
			}
		case xml.StartElement:
			if t.Name.Local != "c" {
				continue
			}
			if at, ok := columnOf(attribute(t, "r")); ok {
				column = at
			}
			value, err := r.cell(attribute(t, "t"), attribute(t, "s"))
			if err != nil {
				return err
			}
			r.put(column, value)
			column++
		}
	}
}

// columnOf reads the column, from 0, of a reference like BC12.
func columnOf(ref string) (int, bool) {
	n := 0
	for _, c := range ref {
		if c < 'A' || c > 'Z' {
			break
		}
		n = 26*n + int(c-'A') + 1
	}
	return n - 1, n > 0 && n <= 1<<14
}

// cell reads a cell up to its end, and returns its value as JSON, nil for none.
func (r *rows) cell(kind, style string) ([]byte, error) {
	var value []byte
	in, given := false, false
	for {
		token, err := r.tokens.RawToken()
		if err != nil {
			return nil, whole(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "v":
				in, given = true, true
			case "is":
				text, err := textOf(r.tokens, "is")
				if err != nil {
					return nil, err
				}
				value, given, kind = text, true, "inlineStr"
			}
		case xml.CharData:
			if in {
				value = append(value, t...)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "v":
				in = false
			case "c":
				if !given {
					return nil, nil
				}
				return r.value(kind, style, value)
			}
		}
	}
}

// value makes JSON of a cell's content by its type (18.18.11) and format.
func (r *rows) value(kind, style string, raw []byte) ([]byte, error) {
	switch kind {
	case "s":
		i, err := strconv.Atoi(strings.TrimSpace(string(raw)))
		text, ok := r.book.shared.at(i)
		if err != nil || !ok {
			return nil, fmt.Errorf("a cell names the shared text %q, which there is not", raw)
		}
		return text2JSON(text), nil
	case "inlineStr", "e":
		return text2JSON(raw), nil
	case "str":
		return text2JSON(unescape(raw)), nil
	case "d":
		return text2JSON(raw), nil
	case "b":
		if strings.TrimSpace(string(raw)) == "1" {
			return []byte("true"), nil
		}
		return []byte("false"), nil
	}
	text := strings.TrimSpace(string(raw))
	if text == "" {
		return nil, nil
	}
	if at, err := strconv.Atoi(style); err == nil && at >= 0 && at < len(r.book.styles) && r.book.styles[at] != noDate {
		if moment, ok := moment(text, r.book.styles[at], r.book.since); ok {
			return text2JSON([]byte(moment)), nil
		}
	}
	return number(text), nil
}
