package sniff

import (
	"fmt"
	"strings"

	"trevak/internal/schema"
)

// trim leaves out the blanks around fields where these hide what the fields are, and says why; it is empty where blanks are kept.
func (t *trial) trim(head []byte, whole bool, stated Stated) string {
	if t.dialect.Trim {
		if stated.Trim {
			return ""
		}
		return "quotes stand behind blanks"
	}
	if t.dialect.Blanks || len(t.dialect.Widths) > 0 || t.dialect.Rest != "" {
		return ""
	}
	why := t.hidden()
	if why == "" {
		return ""
	}
	d := t.dialect
	d.Trim = true
	if other := t.again(head, whole, d); len(other.problems) <= len(t.problems) && other.width == t.width {
		*t = other
		return why
	}
	return ""
}

// hidden says what blanks around fields hide: numbers and dates that would be text with them, or that nearly all fields begin with one.
func (t *trial) hidden() string {
	body := t.body()
	leading, fields := 0, 0
	for c := range t.width {
		blank, typed, texts := 0, 0, 0
		for _, row := range body {
			if c >= len(row) || row[c].Quoted || row[c].Text == "" {
				continue
			}
			text := row[c].Text
			first, last := text[0], text[len(text)-1]
			if c > 0 {
				fields++
				if first == ' ' {
					leading++
				}
			}
			if first == ' ' || first == '\t' || last == ' ' || last == '\t' {
				blank++
			}
		}
		for _, row := range body {
			if blank == 0 || c >= len(row) || row[c].Quoted {
				continue
			}
			text := strings.Trim(row[c].Text, " \t")
			if text == "" {
				continue
			}
			if schema.Classify([]byte(text))&schema.Word == 0 {
				typed++
			} else {
				texts++
			}
		}
		if blank > 0 && typed > 0 && 20*texts <= typed {
			return fmt.Sprintf("blanks stand around numbers or dates, which would be text with them: %d in column %d of the "+
				"records looked at", blank, c+1)
		}
	}
	if fields > 0 && 10*leading >= 9*fields {
		return fmt.Sprintf("a blank stands behind the delimiter: %d of %d fields looked at begin with one", leading, fields)
	}
	return ""
}

// close takes the delimiter behind the last field of each record for its end, where it stands there in all of them.
func (t *trial) close(head []byte, whole bool) bool {
	if t.width < 3 || len(t.rows) < 2 || t.dialect.Blanks || len(t.dialect.Widths) > 0 {
		return false
	}
	for _, row := range t.rows {
		if last := row[len(row)-1]; last.Quoted || last.Text != "" || len(row) < 2 {
			return false
		}
	}
	d := t.dialect
	d.Closed = true
	*t = t.again(head, whole, d)
	return true
}
