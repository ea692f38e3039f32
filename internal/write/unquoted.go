package write

import (
	"fmt"

	"trevak/internal/parse"
	"trevak/internal/parse/delimited"
	"trevak/internal/scan"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/wording"
)

// unquoted counts the records with text after a closing quote, or a quote that is never closed, that are whole records where
// quotes are ordinary characters.
type unquoted struct {
	stray, lines int64
	all          bool
	width        int
}

// add reads a bad record once more, line by line and without quotes.
func (u *unquoted) add(in source.Input, text []byte, code parse.Code) {
	if in.Rules.Format != sniff.Delimited || code != parse.StrayText && code != parse.OpenQuote {
		return
	}
	if u.stray++; u.stray == 1 {
		u.all = true
	}
	p := scan.Parser(in.Rules)
	p.Dialect.Quote, p.Skip, p.Header, p.Pad = 0, 0, "", false
	var r delimited.Records
	p.Parse(&parse.Block{Data: text, Line: 1, Index: 1}, &r)
	u.lines += int64(r.Rows)
	u.width, u.all = len(in.Rules.Names), u.all && len(r.Problems) == 0
}

// advice says that reading without quotes would explain all such records; it is empty where it would not.
func (u *unquoted) advice() string {
	if u.stray == 0 || !u.all {
		return ""
	}
	return fmt.Sprintf("read with --quote none, all %d of these have %d fields (as %s)", u.stray, u.width,
		wording.Count(u.lines, true, "record", "records"))
}
