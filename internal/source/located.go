package source

import (
	"errors"
	"io"

	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/parse/json"
	"trevak/internal/sniff"
)

// Located names the object in an error that does not yet.
func Located(err error, location string) error {
	var document *json.DocumentError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fault.New(fault.Input, "ends before its objects and arrays do").In(location).Try("ask the sender for a whole copy; " +
			"nothing of it was kept")
	case errors.As(err, &document):
		return fault.New(fault.Input, "%s", document.Reason).In(location).Try("%s", document.WayOut)
	}
	if e, ok := err.(*fault.Error); ok {
		return e.In(location)
	}
	return err
}

// Cutter returns what cuts an object into records.
func (in Input) Cutter() parse.Cutter {
	switch in.Rules.Format {
	case sniff.JSONLines, sniff.Sheet:
		return json.Lines{}
	case sniff.JSON, sniff.XML:
		return json.Values{}
	}
	return in.Rules.Dialect
}
