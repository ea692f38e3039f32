// Package quarantine keeps the records that could not become rows, with their places and reasons, so that they can be mended and
// fed back.
//
// What comes in are records; what goes out is a file of JSON lines, an object a record. Unwrap turns such a file, mended or
// not, back into the text that the records came from.
package quarantine

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"unicode/utf8"

	"trevak/internal/fault"
	"trevak/internal/parse"
)

// Record is one record that could not become a row.
type Record struct {
	// Object is the location of the file it came from.
	Object string `json:"object"`
	// Line is the 1-based line it begins on, ByteOffset the offset of its first byte in the unpacked object; records of XML, and JSON that got a key, have none.
	Line       int64  `json:"line"`
	ByteOffset *int64 `json:"byte_offset"`
	// Column is the column at fault, where one is known.
	Column string `json:"column,omitempty"`
	// Reason names the sort of problem, Message says what is wrong.
	Reason  parse.Code `json:"reason"`
	Message string     `json:"message"`
	// Delimiter is that of delimited text. Header is the record that names the columns; Columns names them for objects without one.
	Delimiter string   `json:"delimiter,omitempty"`
	Header    string   `json:"header,omitempty"`
	Columns   []string `json:"columns,omitempty"`
	// Raw is the record's text with its line end; RawBase64 stands in its place where it is no text.
	Raw       string `json:"raw"`
	RawBase64 string `json:"raw_base64,omitempty"`
}

// File writes records to a file that is made when the first one comes. It must be closed.
type File struct {
	path string
	file *os.File
	w    *bufio.Writer
	// nowhere says that records are not kept.
	nowhere bool
}

// New prepares to write to a path, where nothing may be yet.
func New(path string) *File { return &File{path: path} }

// Free returns an error where the file is there already.
func (f *File) Free() error {
	if _, err := os.Lstat(f.path); err == nil {
		return f.exists()
	}
	return nil
}

func (f *File) exists() error {
	return fault.New(fault.Usage, "the quarantine file %s exists already", f.path).Try("move it away, or name another with --quarantine")
}

// Path returns where the records are, empty while there is none.
func (f *File) Path() string {
	if f.file == nil {
		return ""
	}
	return f.path
}

// Add writes a record whose raw text is given as it is.
func (f *File) Add(r Record, raw []byte) error {
	if f.nowhere {
		return nil
	}
	if f.file == nil {
		file, err := os.OpenFile(f.path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return f.exists()
		}
		if err != nil {
			return fault.Wrap(fault.Storage, err, "the quarantine file %s cannot be made", f.path)
		}
		f.file, f.w = file, bufio.NewWriter(file)
	}
	if utf8.Valid(raw) {
		r.Raw = string(raw)
	} else {
		r.RawBase64 = base64.StdEncoding.EncodeToString(raw)
	}
	encoder := json.NewEncoder(f.w)
	encoder.SetEscapeHTML(false)
	return fault.Wrap(fault.Storage, encoder.Encode(r), "the quarantine file %s cannot be written", f.path)
}

// Close ends the file.
func (f *File) Close() error {
	if f.file == nil {
		return nil
	}
	err := f.w.Flush()
	if closed := f.file.Close(); err == nil {
		err = closed
	}
	return fault.Wrap(fault.Storage, err, "the quarantine file %s cannot be written", f.path)
}

// Discard removes the file, for a run that begins anew.
func (f *File) Discard() {
	if f.file != nil {
		f.file.Close()
		os.Remove(f.path)
		f.file = nil
	}
}

// Nowhere takes records without keeping them.
func Nowhere() *File { return &File{nowhere: true} }
