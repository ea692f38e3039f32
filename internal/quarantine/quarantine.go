// Package quarantine keeps the records that could not become rows, with their places and reasons, so that they can be mended and
// fed back.
//
// What comes in are records; what goes out is a file of JSON lines, an object a record. Unwrap turns such a file, mended or
// not, back into the text that the records came from.
package quarantine

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"unicode/utf8"

	"filippo.io/age"

	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/storage"
)

// Record is one record that could not become a row.
type Record struct {
	// Object is the location of the file it came from.
	Object string `json:"object"`
	// Line is the 1-based line it begins on, ByteOffset the offset of its first byte in the unpacked object; records of XML,
	// and JSON that got a key, have none.
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

// File writes records to an object that is begun when the first one comes. It must be closed.
type File struct {
	store storage.Store
	uri   string
	file  storage.Writer
	w     *bufio.Writer
	seal  Seal
	shut  io.Closer // what has to be closed for the file to be whole, nil for nothing
	// committed says that the object is there.
	committed bool
	// nowhere says that records are not kept.
	nowhere bool
}

// New prepares to write to a URI, where nothing may be yet. A file that is sealed has another ending behind its name.
func New(s storage.Store, uri string, seal Seal) *File {
	if seal.to != nil {
		uri += sealedEnding
	}
	return &File{store: s, uri: uri, seal: seal}
}

// Free returns an error where there is something already.
func (f *File) Free(ctx context.Context) error {
	if storage.Exists(ctx, f.store, f.uri) {
		return f.exists()
	}
	return nil
}

func (f *File) exists() error {
	return fault.New(fault.Usage, "the quarantine file %s exists already", f.uri).Try("move it away, or name another with --quarantine")
}

// URI returns where the records are, empty while there is none.
func (f *File) URI() string {
	if f.file == nil {
		return ""
	}
	return f.uri
}

// Add writes a record whose raw text is given as it is.
func (f *File) Add(ctx context.Context, r Record, raw []byte) error {
	if f.nowhere {
		return nil
	}
	if f.file == nil {
		file, err := f.store.Create(ctx, f.uri, storage.Creation{Mode: storage.Exclusive, InFolder: true})
		if errors.Is(err, fs.ErrExist) {
			return f.exists()
		}
		if err != nil {
			return fault.Wrap(fault.Storage, err, "the quarantine file %s cannot be made", f.uri)
		}
		f.file, f.w = file, bufio.NewWriter(file)
		if f.seal.to != nil {
			sealed, err := age.Encrypt(file, f.seal.to)
			if err != nil {
				return fault.Wrap(fault.Storage, err, "the quarantine file %s cannot be sealed", f.uri)
			}
			f.w, f.shut = bufio.NewWriter(sealed), sealed
		}
	}
	if utf8.Valid(raw) {
		r.Raw = string(raw)
	} else {
		r.RawBase64 = base64.StdEncoding.EncodeToString(raw)
	}
	encoder := json.NewEncoder(f.w)
	encoder.SetEscapeHTML(false)
	return fault.Wrap(fault.Storage, encoder.Encode(r), "the quarantine file %s cannot be written", f.uri)
}

// Close ends the file, which is there then.
func (f *File) Close() error {
	if f.file == nil || f.committed {
		return nil
	}
	err := f.w.Flush()
	if err == nil && f.shut != nil {
		err = f.shut.Close()
	}
	if err == nil {
		err = f.file.Commit()
	} else {
		f.file.Abort()
	}
	if errors.Is(err, fs.ErrExist) {
		return f.exists()
	}
	f.committed = err == nil
	return fault.Wrap(fault.Storage, err, "the quarantine file %s cannot be written", f.uri)
}

// Discard removes the file, for a run that begins anew.
func (f *File) Discard(ctx context.Context) {
	switch {
	case f.file == nil:
		return
	case f.committed:
		// What cannot be removed stays where it is told to be.
		_ = f.store.Remove(ctx, f.uri)
	default:
		f.file.Abort()
	}
	f.file, f.committed = nil, false
}

// Nowhere takes records without keeping them.
func Nowhere() *File { return &File{nowhere: true} }
