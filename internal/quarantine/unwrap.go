package quarantine

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"

	"trevak/internal/fault"
)

// First returns the first record of a quarantine file; ok is false where the beginning of an object is not that of one: a JSON object
// with all the keys that records have.
func First(head []byte) (r Record, ok bool) {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	if len(line) == 0 || line[0] != '{' || !bytes.Contains(line, []byte(`"byte_offset"`)) {
		return r, false
	}
	var keys map[string]json.RawMessage
	if json.Unmarshal(line, &keys) != nil || json.Unmarshal(line, &r) != nil {
		return r, false
	}
	for _, key := range []string{"object", "line", "byte_offset", "reason", "message", "raw"} {
		if _, ok := keys[key]; !ok {
			return r, false
		}
	}
	return r, true
}

// Unwrap reads the records' raw text out of a quarantine file: the header, where there is one, and then record after record. All
// records must have the same header.
func Unwrap(r io.Reader) io.Reader {
	return &unwrapper{decoder: json.NewDecoder(r)}
}

type unwrapper struct {
	decoder *json.Decoder
	begun   bool
	header  string
	records int
	ready   []byte
}

func (u *unwrapper) Read(p []byte) (int, error) {
	for len(u.ready) == 0 {
		if err := u.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, u.ready)
	u.ready = u.ready[n:]
	return n, nil
}

// next makes the text of one more record ready.
func (u *unwrapper) next() error {
	var r Record
	err := u.decoder.Decode(&r)
	if errors.Is(err, io.EOF) {
		return io.EOF
	}
	u.records++
	if err != nil {
		return fault.New(fault.Input, "record %d of the quarantine file is not one any more: %s", u.records, err).
			Try("keep every record a JSON object on a line of its own; mend its \"raw\"")
	}
	raw := []byte(r.Raw)
	if r.RawBase64 != "" {
		if raw, err = base64.StdEncoding.DecodeString(r.RawBase64); err != nil {
			return fault.New(fault.Input, "record %d of the quarantine file has a \"raw_base64\" that is not base64", u.records).
				Try("put the mended text into \"raw\" and leave \"raw_base64\" out")
		}
	}
	if !u.begun {
		u.begun, u.header = true, r.Header
		u.ready = append(u.ready, lineEnded(r.Header)...)
	} else if r.Header != u.header {
		return fault.New(fault.Input, "record %d of the quarantine file came from a file with another header", u.records).
			Try("split the quarantine file by its \"object\" and load each part by itself")
	}
	u.ready = append(u.ready, lineEnded(string(raw))...)
	return nil
}

// lineEnded returns a text with a line end, unless there is no text.
func lineEnded(text string) string {
	if text == "" || text[len(text)-1] == '\n' {
		return text
	}
	return text + "\n"
}
