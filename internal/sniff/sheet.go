package sniff

import (
	"bytes"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/parse/delimited"
	"trevak/internal/parse/json"
	"trevak/internal/sheet"
)

// settleSheet settles where the table of a sheet begins, and its header, from its rows as lines of JSON.
func (r *Rules) settleSheet(head []byte, whole bool, stated Stated) error {
	if !whole {
		end := bytes.LastIndexByte(head, '\n') + 1
		if end == 0 {
			return ErrMore
		}
		head = head[:end]
	}
	t := trial{dialect: delimited.Dialect{Delimiter: ',', Quote: '"'}, head: head}
	widest, at := 0, 0
	for line := range bytes.Lines(head) {
		cells, err := sheet.Cells(line)
		if err != nil {
			return fault.New(fault.Input, "has a row that cannot be read").Try("ask the sender for a whole copy")
		}
		row := make([]delimited.Field, len(cells))
		for i, cell := range cells {
			row[i].Text = cellText(cell)
		}
		t.rows, t.starts = append(t.rows, row), append(t.starts, at)
		widest, at = max(widest, len(row)), at+len(line)
	}
	if widest == 0 {
		if !whole {
			return ErrMore
		}
		return fault.New(fault.Input, "holds no row").Try("leave it out of the source")
	}
	for i := range t.rows {
		for len(t.rows[i]) < widest {
			t.rows[i] = append(t.rows[i], delimited.Field{})
		}
	}
	t.measure()
	t.width = widest
	r.Format, r.Encoding = Sheet, UTF8
	r.because("format", "sheet", "it is one of a workbook (ISO/IEC 29500 or 26300); cells are read by their types")
	if err := r.settleTable(t, whole, stated); err != nil {
		return err
	}
	r.Least, r.Keys = 0, r.Names
	if r.Skip > 0 {
		var title []string
		for _, f := range t.rows[0] {
			if f.Text != "" {
				title = append(title, f.Text)
			}
		}
		r.Title = strings.Join(title, " ")
	}
	return nil
}

// cellText is what a cell of JSON holds, as a field of delimited text would.
func cellText(cell []byte) string {
	if string(cell) == "null" {
		return ""
	}
	if len(cell) > 1 && cell[0] == '"' {
		var text string
		if unquote(cell, &text) {
			return text
		}
	}
	return strings.TrimSpace(string(cell))
}

// unquote reads a string of JSON.
func unquote(cell []byte, text *string) bool {
	var s json.Scanner
	s.Reset(cell)
	if s.Peek() != json.String {
		return false
	}
	raw, escaped := s.String()
	if escaped {
		raw = s.Unescape(nil, raw)
	}
	*text = string(raw)
	return s.Err() == nil
}
