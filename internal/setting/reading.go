package setting

import (
	"io"
	"strconv"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/mask"
	"trevak/internal/parse/delimited"
	"trevak/internal/quarantine"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/write"
)

// Task makes of a flow what its packages carry out. listed are the sources, form says that rows may get another form, and
// columns that something may be said of columns.
func (f *Flow) Task(env Env) (t write.Task, err error) {
	if f.MixedContent != "members" && f.MixedContent != "text" {
		return t, fault.Unknown("mixed-content", f.MixedContent, "members", "text")
	}
	t.Reading.Reading = source.Reading{Sources: env.Sources, Stdin: env.Stdin, Store: env.Store, MayExpand: f.AllowExpansion,
		Mixed: f.MixedFiles, Mask: mask.Of(f.Mask),
		Particular: f.particular(), Prefixes: f.XMLPrefixes, MixedText: f.MixedContent == "text"}
	if t.Unsure, err = source.ParseUnsure(f.Unsure); err != nil {
		return t, err
	}
	if t.Stated, err = f.rules(); err != nil {
		return t, err
	}
	if t.Limits = (source.Limits{RecordBytes: f.MaxRecord, Columns: f.MaxColumns, Depth: f.MaxDepth}); f.MaxRecord < 1 ||
		f.MaxColumns < 1 || f.MaxDepth < 1 {
		return t, fault.New(fault.Usage, "--max-record, --max-columns and --max-depth count from 1 on")
	}
	if f.MaxDepth > deepest {
		return t, fault.New(fault.Usage, "--max-depth %d is more than %d, the most that columns can be made of", f.MaxDepth, deepest).
			Try("state at most that; deeper values can be kept as text by another program")
	}
	if err := f.records(&t); err != nil {
		return t, err
	}
	if env.Form {
		if t.Shape, err = f.shape(); err != nil {
			return t, err
		}
		t.Confirmed = f.ConfirmMultiply
	}
	if f.Geometry != "keep" && f.Geometry != "wkb" {
		return t, fault.Unknown("geometry", f.Geometry, "keep", "wkb")
	}
	if env.Columns {
		if t.Scan, err = f.scanned(); err != nil {
			return t, err
		}
		if t.Corrections, err = f.corrections(env.Declared); err != nil {
			return t, err
		}
	}
	if f.Geometry == "wkb" {
		t.UseWKB()
	}
	return t, nil
}

// Env is what a flow finds where it runs.
type Env struct {
	Sources []string
	Stdin   io.Reader
	Store   storage.Store
	// Form says that rows may get another form, Columns that something may be said of columns; Declared are columns that a feed file has.
	Form, Columns bool
	Declared      []schema.Field
}

// records settles what becomes of records that fail, and what columns are added.
func (f *Flow) records(t *write.Task) (err error) {
	for _, text := range f.PartitionValues {
		column, value, ok := strings.Cut(text, "=")
		if !ok || column == "" || value == "" {
			return fault.New(fault.Usage, "--partition-value %q does not name a column and its value",
				text).Try("write it like --partition-value batch=2031-05")
		}
		t.PartitionValues = append(t.PartitionValues, write.PartitionValue{Column: column, Value: value})
	}
	if t.QuarantineAs, err = quarantine.ParseSeal(f.QuarantineAs); err != nil {
		return err
	}
	if t.QuarantineAs.None && f.Quarantine != "" {
		return fault.New(fault.Usage, "--quarantine names a file, and --quarantine-as none has none written").Try("leave one of them out")
	}
	t.Quarantine, t.Lineage, t.KeepRaw, t.PathColumns = f.Quarantine, f.Lineage, f.KeepRaw, f.PathColumns
	if f.Tolerate != "" {
		if t.Tolerate, err = write.ParseTolerance("--tolerate", f.Tolerate); err != nil {
			return err
		}
	}
	if f.TolerateMisfits != "" {
		t.Misfits, err = write.ParseTolerance("--tolerate-misfits", f.TolerateMisfits)
	}
	return err
}

// deepest is the most that --max-depth takes: each level is a column within others, with a path as long as it is deep.
const deepest = 500

// rules are the reading rules that are fixed.
func (f *Flow) rules() (sniff.Stated, error) {
	s := sniff.Stated{Records: string(f.Records), SkipRows: f.SkipRows, Columns: f.Columns, Trim: f.Trim, SkipBlank: f.SkipBlankRows}
	var err error
	if s.Lenient = f.JSONNumbers == "lenient"; !s.Lenient && f.JSONNumbers != "strict" {
		return s, fault.Unknown("json-numbers", f.JSONNumbers, "strict", "lenient")
	}
	s.SkipStated = f.Stated("skip-rows")
	if s.Widths, err = parseWidths(f.Widths); err != nil {
		return s, err
	}
	if len(s.Widths) > 0 && (f.Delimiter != "" || f.Quote != "" || f.Escape != "double" || f.Trim) {
		return s, fault.New(fault.Usage, "--widths leaves no room for --delimiter, --quote, --escape or --trim: nothing stands "+
			"between fields, and blanks around them are left out").Try("leave these out")
	}
	if f.Encoding != "" {
		if s.Encoding, err = sniff.ParseEncoding(f.Encoding); err != nil {
			return s, err
		}
	}
	if s.Delimiter, err = parseDelimiter(f.Delimiter); err != nil {
		return s, err
	}
	if s.Quote, err = parseCharacter("--quote", f.Quote); err != nil {
		return s, err
	}
	if s.Comment, err = parseCharacter("--comment", f.Comment); err != nil {
		return s, err
	}
	if s.Quote != nil && *s.Quote != 0 && strings.ContainsRune(s.Delimiter, rune(*s.Quote)) {
		return s, fault.New(fault.Usage, "--delimiter %q holds the quote", f.Delimiter).Try("state another --quote, or --quote none")
	}
	if f.SkipRows < 0 || f.HeaderRows < 0 {
		return s, fault.New(fault.Usage, "--skip-rows and --header-rows count from 0 on")
	}
	one, none := 1, 0
	switch {
	case f.Stated("header") && !f.Header:
		return s, fault.New(fault.Usage, "--header=false has no effect").Try("write --no-header where the first record is data, or " +
			"leave it out to have that decided")
	case f.Stated("no-header") && !f.NoHeader:
		return s, fault.New(fault.Usage, "--no-header=false has no effect").Try("write --header where the first record holds the " +
			"names, or leave it out to have that decided")
	case f.Header && f.NoHeader, f.NoHeader && f.HeaderRows > 0:
		return s, fault.New(fault.Usage, "--header and --no-header contradict each other").Try("keep one of them")
	case f.HeaderRows > 0:
		s.HeaderRows = &f.HeaderRows
	case f.Header:
		s.HeaderRows = &one
	case f.NoHeader:
		s.HeaderRows = &none
	}
	switch f.Escape {
	case "double":
	case "backslash":
		s.Escape = '\\'
	default:
		return s, fault.Unknown("escape", f.Escape, "double", "backslash")
	}
	switch f.Ragged {
	case "stop":
	case "pad":
		s.Pad = true
	default:
		return s, fault.Unknown("ragged", f.Ragged, "stop", "pad")
	}
	return s, nil
}

// parseWidths reads widths like 5,12,8.
func parseWidths(text string) (widths []int, err error) {
	if text == "" {
		return nil, nil
	}
	for _, part := range strings.Split(text, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(part))
		if err != nil || n < 1 {
			return nil, fault.New(fault.Usage, "--widths %s has %q, which is no width", text,
				part).Try("write how many characters each field has, like --widths 5,12,8")
		}
		widths = append(widths, n)
	}
	return widths, nil
}

// delimiterWords are names and spellings of delimiters that are awkward to type.
var delimiterWords = map[string]string{"comma": ",", "semicolon": ";", "tab": "\t", `\t`: "\t", "pipe": "|", "space": " ",
	"blanks": delimited.BlanksText,
	"none":   delimited.NoneText, "tilde": "~", "caret": "^", `\x01`: "\x01", `\x1f`: "\x1f", `\x1F`: "\x1f", "0x01": "\x01",
	"0x1F": "\x1f"}

func parseDelimiter(text string) (string, error) {
	if d, ok := delimiterWords[text]; ok {
		return d, nil
	}
	if strings.ContainsAny(text, "\"\r\n\x00") {
		return "", fault.New(fault.Usage, "--delimiter %q holds a quote, a line end or a NUL", text).
			Try("use other characters, or comma, semicolon, tab, pipe, space")
	}
	return text, nil
}

// parseCharacter reads a flag that is one ASCII character or the word none; nil is a flag that is not stated.
func parseCharacter(flag, text string) (*byte, error) {
	var c byte
	switch {
	case text == "":
		return nil, nil
	case text == "none":
		return &c, nil
	case len(text) == 1 && text[0] < 0x80 && !strings.ContainsAny(text, "\r\n\x00"):
		c = text[0]
		return &c, nil
	}
	return nil, fault.New(fault.Usage, "%s %q is not one ASCII character", flag, text).Try("use a single character, or none")
}
