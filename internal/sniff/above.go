package sniff

import (
	"bytes"
	"fmt"
	"strings"

	"trevak/internal/fault"
)

// Above is lines that stand above a header: a title, a remark. They have other than the usual number of fields, and the line below them reads like names.
type Above struct {
	// Lines is how many, First the first of them.
	Lines int
	First string
	// Names are those of the header below.
	Names []string
}

// mostAbove is how many lines above a header are looked for.
const mostAbove = 5

// lookBelow looks for a header below lines that are not like the others. It was tried on the text: without them the header is found.
func (r *Rules) lookBelow(head []byte, whole bool, encoding Reason, stated Stated) {
	if r.Format != Delimited || r.Header || stated.HeaderRows != nil || len(stated.Columns) > 0 || stated.below || len(r.First) == len(r.Names) {
		return
	}
	stated.below = true
	rest := head
	for lines := 1; lines <= mostAbove; lines++ {
		var more bool
		if _, rest, more = bytes.Cut(rest, []byte("\n")); !more {
			return
		}
		below, err := Settle(rest, whole, r.Compression, encoding, stated)
		if err != nil || below.Format != Delimited || !below.Header || len(below.Names) < 2 || below.Unsure("header") {
			continue
		}
		first, _, _ := bytes.Cut(head, []byte("\n"))
		r.Above = Above{lines, strings.TrimRight(string(first), "\r"), below.Names}
		for i := range r.Reasons {
			if reason := &r.Reasons[i]; reason.Rule == "header" {
				reason.Unsure = true
				reason.Why = fmt.Sprintf("the first line is not like the others, and below it stands what reads like a header: --skip-rows %d takes that", lines)
			}
		}
		return
	}
}

// Unsure reports whether another reading than that of a rule was nearly as likely.
func (r *Rules) Unsure(rule string) bool {
	for _, reason := range r.Reasons {
		if reason.Rule == rule {
			return reason.Unsure
		}
	}
	return false
}

// Refusal is the error for an object with lines above its header that nobody said anything of, nil for others.
func (a Above) Refusal() error {
	if a.Lines == 0 {
		return nil
	}
	lines, them := "a line", "it"
	if a.Lines > 1 {
		lines, them = fmt.Sprintf("%d lines", a.Lines), "them"
	}
	return fault.New(fault.Input, "seems to have %s above its header: %s", lines, fault.Quote(a.First)).
		Try("leave %s out with --skip-rows %d, which gives the columns %s; or state --no-header", them, a.Lines, someNames(a.Names))
}

// someNames lists the first few names.
func someNames(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and more"
	}
	return strings.Join(names, ", ")
}
