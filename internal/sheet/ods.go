package sheet

import (
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
)

// contentPart holds all tables of a document (ISO/IEC 26300-1, 3.1.3.2).
const contentPart = "content.xml"

// readTables reads the names of the tables.
func (b *Book) readTables() error {
	if b.files[contentPart] == nil {
		return fmt.Errorf("it lacks its part %s", contentPart)
	}
	return b.each(contentPart, func(_ *xml.Decoder, e xml.StartElement) error {
		if e.Name.Local == "table" && e.Name.Space == "table" {
			b.Sheets = append(b.Sheets, Sheet{Name: attribute(e, "name"), Size: int64(b.files[contentPart].CompressedSize64),
				member: contentPart})
		}
		return nil
	})
}

// mostRepeated bounds how often a row or a cell that holds something is repeated: more are only those without a value, up to
// the edges of a sheet.
const mostRepeated = 1 << 20

// tableRow makes the next row of the table ready (9.1.3).
func (r *rows) tableRow() error {
	for {
		token, err := r.tokens.RawToken()
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch {
			case t.Name.Local == "table" && t.Name.Space == "table":
				r.inside = attribute(t, "name") == r.table
			case r.inside && t.Name.Local == "table-row":
				return r.readTableRow(repeated(t, "number-rows-repeated"))
			}
		case xml.EndElement:
			if t.Name.Local == "table" && t.Name.Space == "table" {
				r.inside = false
			}
		}
	}
}

func repeated(e xml.StartElement, name string) int {
	n, err := strconv.Atoi(attribute(e, name))
	if err != nil || n < 1 {
		return 1
	}
	return n
}

// readTableRow reads a row that stands for so many. Empty ones at the end of a table are many, and are nothing: they are given
// only before another row.
func (r *rows) readTableRow(times int) error {
	r.cells = r.cells[:0]
	column := 0
	for done := false; !done; {
		token, err := r.tokens.RawToken()
		if err != nil {
			return whole(err)
		}
		switch t := token.(type) {
		case xml.EndElement:
			done = t.Name.Local == "table-row"
		case xml.StartElement:
			if t.Name.Local != "table-cell" && t.Name.Local != "covered-table-cell" {
				continue
			}
			n := repeated(t, "number-columns-repeated")
			value, err := r.tableCell(t)
			if err != nil {
				return err
			}
			if value != nil && column+n > 1<<14 {
				return fmt.Errorf("a row has more than %d cells", 1<<14)
			}
			if value != nil {
				for i := range n {
					r.put(column+i, value)
				}
			}
			column += n
		}
	}
	if len(r.cells) == 0 {
		r.blanks += int64(times)
		return nil
	}
	if times > mostRepeated || r.blanks > mostRepeated {
		return fmt.Errorf("a row is repeated %d times", max(int64(times), r.blanks))
	}
	for ; r.blanks > 0; r.blanks-- {
		r.ready.WriteString("[]\n")
	}
	for range times {
		r.emit()
	}
	return nil
}

// tableCell reads a cell up to its end (9.1.4), and returns its value as JSON by its type (19.385), nil for none.
func (r *rows) tableCell(e xml.StartElement) ([]byte, error) {
	var paragraphs []string
	depth, note := 1, 0
	for depth > 0 {
		token, err := r.tokens.RawToken()
		if err != nil {
			return nil, whole(err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			switch {
			case t.Name.Local == "annotation":
				note = depth
			case note > 0:
			case t.Name.Local == "p" && t.Name.Space == "text":
				paragraphs = append(paragraphs, "")
			case t.Name.Local == "s" && len(paragraphs) > 0:
				paragraphs[len(paragraphs)-1] += strings.Repeat(" ", min(repeated(t, "c"), 1000))
			case t.Name.Local == "tab" && len(paragraphs) > 0:
				paragraphs[len(paragraphs)-1] += "\t"
			case t.Name.Local == "line-break" && len(paragraphs) > 0:
				paragraphs[len(paragraphs)-1] += "\n"
			}
		case xml.CharData:
			if note == 0 && len(paragraphs) > 0 {
				paragraphs[len(paragraphs)-1] += string(t)
			}
		case xml.EndElement:
			if note == depth {
				note = 0
			}
			depth--
		}
	}
	text := strings.Join(paragraphs, "\n")
	switch attribute(e, "value-type") {
	case "float", "percentage", "currency":
		return number(attribute(e, "value")), nil
	case "date":
		return text2JSON([]byte(attribute(e, "date-value"))), nil
	case "time":
		return text2JSON([]byte(clockOf(attribute(e, "time-value")))), nil
	case "boolean":
		if attribute(e, "boolean-value") == "true" {
			return []byte("true"), nil
		}
		return []byte("false"), nil
	case "string":
		if value := attribute(e, "string-value"); value != "" {
			text = value
		}
		return text2JSON([]byte(text)), nil
	}
	return text2JSON([]byte(text)), nil
}

// clockOf writes a duration like PT10H05M00S as a time of day, where it is one.
func clockOf(duration string) string {
	var hours, minutes int
	var seconds float64
	if n, err := fmt.Sscanf(duration, "PT%dH%dM%fS", &hours, &minutes, &seconds); n != 3 || err != nil || hours > 23 {
		return duration
	}
	clock := fmt.Sprintf("%02d:%02d:%02d", hours, minutes, int(seconds))
	if ms := int(seconds*1000+0.5) % 1000; ms > 0 {
		clock += fmt.Sprintf(".%03d", ms)
	}
	return clock
}
