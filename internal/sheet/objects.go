package sheet

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strconv"
)

// Objects reads rows and gives an object for each, by names of the columns, on the line of the row. Rows at the top that are no
// records, and rows without a value, give empty lines; columns without a name are called by their position, as c5.
type Objects struct {
	r     *bufio.Reader
	names [][]byte
	skip  int
	ready bytes.Buffer
}

// NewObjects passes over so many rows at the top.
func NewObjects(r io.Reader, names []string, skip int) *Objects {
	o := &Objects{r: bufio.NewReaderSize(r, 64<<10), skip: skip}
	for _, name := range names {
		o.names = append(o.names, text2JSON([]byte(name)))
	}
	return o
}

func (o *Objects) Read(p []byte) (int, error) {
	for o.ready.Len() == 0 {
		line, err := o.r.ReadBytes('\n')
		if len(line) > 0 {
			if more := o.row(line); more != nil {
				return 0, more
			}
		}
		if err != nil && o.ready.Len() == 0 {
			return 0, err
		}
	}
	return o.ready.Read(p)
}

// row makes the object of one row ready.
func (o *Objects) row(line []byte) error {
	cells, err := Cells(line)
	if err != nil {
		return err
	}
	if o.skip > 0 {
		o.skip--
		cells = nil
	}
	some := false
	for i, cell := range cells {
		if string(cell) == "null" {
			continue
		}
		if some {
			o.ready.WriteByte(',')
		} else {
			o.ready.WriteByte('{')
		}
		some = true
		if i < len(o.names) {
			o.ready.Write(o.names[i])
		} else {
			o.ready.WriteString(`"c` + strconv.Itoa(i+1) + `"`)
		}
		o.ready.WriteByte(':')
		o.ready.Write(cell)
	}
	if some {
		o.ready.WriteByte('}')
	}
	o.ready.WriteByte('\n')
	return nil
}

// Cells takes a row apart.
func Cells(line []byte) ([]json.RawMessage, error) {
	var cells []json.RawMessage
	if err := json.Unmarshal(line, &cells); err != nil {
		return nil, errors.New("a row cannot be read")
	}
	return cells, nil
}
