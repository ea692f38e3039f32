// Package sheet reads spreadsheets: the workbooks of ISO/IEC 29500 (.xlsx) and of ISO/IEC 26300 (.ods), which are zip archives
// of XML.
//
// What comes in is the archive; what goes out are the names of its sheets, and of each the rows, as lines of JSON: an array a
// row, of numbers, texts, true, false and null as the cells are by their types, dates and times as texts in the form of ISO
// 8601. Lines are numbered like the rows. Objects makes objects of them, by names. Sheets are read as a stream; of a workbook
// only the texts that its cells share are held.
package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"trevak/internal/fault"
)

// Sheet is one sheet of a workbook.
type Sheet struct {
	Name string
	// Hidden says that it is not shown to those who open the workbook.
	Hidden bool
	// Size is how many bytes it takes in the archive, where it is a member of its own.
	Size int64

	member string // of the archive
	book   *Book
}

// Book is a workbook.
type Book struct {
	Sheets []Sheet

	files    map[string]*zip.File
	open     bool // of ISO/IEC 26300
	since    int  // the day that dates are counted from, since 1970-01-01
	shared   *shared
	styles   []dateKind // by cell format
	prepared bool
}

// mostShared bounds the texts that the cells of a workbook share.
const mostShared = 256 << 20

// IsBook reports whether an archive is a workbook.
func IsBook(z *zip.Reader) bool {
	for _, f := range z.File {
		switch f.Name {
		case "xl/workbook.xml":
			return true
		case "mimetype":
			return bytes.HasPrefix(beginning(f), []byte("application/vnd.oasis.opendocument.spreadsheet"))
		}
	}
	return false
}

// beginning returns the first bytes of a member.
func beginning(f *zip.File) []byte {
	r, err := f.Open()
	if err != nil {
		return nil
	}
	defer r.Close()
	head, _ := io.ReadAll(io.LimitReader(r, 128))
	return head
}

// NewBook reads which sheets a workbook has.
func NewBook(z *zip.Reader) (*Book, error) {
	b := &Book{files: map[string]*zip.File{}, since: days1900}
	for _, f := range z.File {
		b.files[strings.TrimPrefix(f.Name, "/")] = f
	}
	var err error
	if b.files["xl/workbook.xml"] != nil {
		err = b.readWorkbook()
	} else {
		b.open = true
		err = b.readTables()
	}
	if err != nil {
		return nil, broken(err)
	}
	if len(b.Sheets) == 0 {
		return nil, fault.New(fault.Input, "is a workbook without sheets").Try("leave it out of the source")
	}
	for i := range b.Sheets {
		b.Sheets[i].book = b
	}
	return b, nil
}

// broken makes an error of the kind Input of one that says that the workbook is not as it should be.
func broken(err error) error {
	return fault.Wrap(fault.Input, err, "is no whole workbook")
}

// Rows reads a sheet's rows as lines of JSON. The reader is to be closed.
func (s Sheet) Rows() (io.ReadCloser, error) {
	b := s.book
	if !b.open && !b.prepared {
		if err := b.prepare(); err != nil {
			return nil, broken(err)
		}
		b.prepared = true
	}
	f := b.files[s.member]
	if f == nil {
		return nil, broken(fmt.Errorf("it lacks its part %s", s.member))
	}
	r, err := f.Open()
	if err != nil {
		return nil, broken(err)
	}
	rows := &rows{closer: r, tokens: newTokens(r), book: b}
	rows.next = rows.row
	if b.open {
		rows.next, rows.table = rows.tableRow, s.Name
	}
	return rows, nil
}

// rows gives the rows of a sheet.
type rows struct {
	closer io.Closer
	tokens *xml.Decoder
	book   *Book
	next   func() error // makes one more row ready
	table  string       // the name of the table, in a document that has all
	inside bool
	line   int // of the row that comes next, from 1
	ready  bytes.Buffer
	cells  [][]byte
	blanks int64 // rows without cells that are due
}

func (r *rows) Close() error { return r.closer.Close() }

func (r *rows) Read(p []byte) (int, error) {
	for r.ready.Len() == 0 {
		if err := r.next(); err != nil {
			if errors.Is(err, io.EOF) {
				return 0, io.EOF
			}
			return 0, broken(err)
		}
	}
	return r.ready.Read(p)
}

// emit makes a row ready of the cells.
func (r *rows) emit() {
	last := len(r.cells)
	for last > 0 && r.cells[last-1] == nil {
		last--
	}
	r.ready.WriteByte('[')
	for i, cell := range r.cells[:last] {
		if i > 0 {
			r.ready.WriteByte(',')
		}
		if cell == nil {
			r.ready.WriteString("null")
		} else {
			r.ready.Write(cell)
		}
	}
	r.ready.WriteString("]\n")
	r.line++
}

// put sets the cell of a column, from 0.
func (r *rows) put(column int, value []byte) {
	for len(r.cells) <= column {
		r.cells = append(r.cells, nil)
	}
	r.cells[column] = value
}

func newTokens(r io.Reader) *xml.Decoder {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	return d
}

// attribute returns an attribute of an element by its name without a prefix.
func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// each calls a function for the elements of a part of the workbook; a part that is absent has none.
func (b *Book) each(member string, visit func(d *xml.Decoder, e xml.StartElement) error) error {
	f := b.files[member]
	if f == nil {
		return nil
	}
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	d := newTokens(r)
	for {
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if e, ok := token.(xml.StartElement); ok {
			if err := visit(d, e); err != nil {
				return err
			}
		}
	}
}
