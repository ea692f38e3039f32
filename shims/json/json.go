// Package json takes the place of a library for JSON that the columnar library asks for. It is the standard library's, which does the
// same more slowly, where speed does not matter: of what that library makes of JSON nothing is used here but values of single cells
// and schemas.
package json

import (
	"encoding/json"
	"io"
)

// The types are the standard library's own.
type (
	Decoder            = json.Decoder
	Encoder            = json.Encoder
	Marshaler          = json.Marshaler
	Unmarshaler        = json.Unmarshaler
	Delim              = json.Delim
	Number             = json.Number
	RawMessage         = json.RawMessage
	UnmarshalTypeError = json.UnmarshalTypeError
)

// Marshal is json.Marshal.
func Marshal(v any) ([]byte, error) { return json.Marshal(v) }

// Unmarshal is json.Unmarshal.
func Unmarshal(data []byte, v any) error { return json.Unmarshal(data, v) }

// NewDecoder is json.NewDecoder.
func NewDecoder(r io.Reader) *Decoder { return json.NewDecoder(r) }

// NewEncoder is json.NewEncoder.
func NewEncoder(w io.Writer) *Encoder { return json.NewEncoder(w) }
