package setting

import (
	"trevak/internal/sniff"
	"trevak/internal/source"
)

// Flags that speak of one sort of source only.
var (
	delimitedFlags = []string{"delimiter", "quote", "escape", "comment", "trim", "skip-blank-rows", "widths", "ragged", "decimal-mark"}
	headerFlags    = []string{"header", "no-header", "header-rows", "columns"}
	documentFlags  = []string{"records", "max-depth"}
	jsonFlags      = []string{"json-numbers", "geometry"}
	markupFlags    = []string{"xml-prefixes", "mixed-content"}
	textFlags      = []string{"encoding"}
	recordFlags    = []string{"skip-rows", "max-record", "scan", "nulls"}
)

// particular lists the flags that were stated and speak of one sort of source, to be held against what the source is.
func (f *Flow) particular() []source.Particular {
	var out []source.Particular
	add := func(names []string, formats ...sniff.Format) {
		for _, name := range names {
			if f.Stated(name) {
				out = append(out, source.Particular{Flag: "--" + name, Formats: formats})
			}
		}
	}
	add(delimitedFlags, sniff.Delimited)
	add(headerFlags, sniff.Delimited, sniff.Sheet)
	add(documentFlags, sniff.JSON, sniff.JSONLines, sniff.XML)
	add(jsonFlags, sniff.JSON, sniff.JSONLines)
	add(markupFlags, sniff.XML)
	add(textFlags, sniff.Delimited, sniff.JSON, sniff.JSONLines, sniff.XML)
	add(recordFlags, sniff.Delimited, sniff.JSON, sniff.JSONLines, sniff.XML, sniff.Sheet)
	return out
}
