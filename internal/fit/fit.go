// Package fit turns raw fields into typed Arrow columns under a schema.
//
// What comes in are the records of a block; what goes out is a record batch with a row for each that became one, the values that
// did not fit their columns, and the problems of the records that became no row. Values are written from the block's bytes straight
// into column buffers.
//
// A column that inference settled takes only what inference would have given that type, so a value beyond it is noticed and
// nothing is lost: it asks for a wider schema. A pinned column takes every spelling of its type; a value that is none, or one beyond the
// type that a table has, is a misfit: the row stays, with null in its place.
package fit

import (
	"bytes"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/lexical"
	"trevak/internal/parse"
	"trevak/internal/schema"
)

// Unknown says what becomes of JSON members that the schema does not have.
type Unknown uint8

// UnknownWidens asks for a wider schema, UnknownKept makes misfits of them.
const (
	UnknownWidens Unknown = iota
	UnknownKept
)

// Result is what became of the records of a block.
type Result struct {
	// Batch has a row for each record that became one. It is nil when a wider schema is asked for.
	Batch arrow.RecordBatch
	// Problems are the records that became no row, in order.
	Problems []parse.Problem
	// Misfits are values that are not in their columns, by row.
	Misfits []Misfit
	// Tokens counts by column the values that were words for no value, and Longest is the length of its longest text in characters.
	Tokens  map[string]int64
	Longest map[string]int
	// Present tells of JSON which columns occurred, and Folded the keys that differ from their columns in letter case, by column.
	Present []bool
	Folded  map[string]string

	pool    columnPool
	columns []*column // those of the batch
}

// Misfit is a value that does not fit its column.
type Misfit struct {
	// Row is the row of the batch, Start the offset of its record in the block.
	Row, Start int
	// Column is the column's path by its names in the schema, with the positions of list elements in brackets, and Of the same without
	// them, as the schema's Walk gives it. Known is false for a column that the schema does not have.
	Column, Of string
	Known      bool
	// Text is the raw value; JSON says that it is one of JSON as it stands.
	Text string
	JSON bool
}

// count adds what columns and their parts counted on the way.
func count(out *Result, columns []*column) {
	for _, c := range columns {
		if c.words != nil {
			c.longest = c.longestOf()
		} else if c.cut {
			c.measureAgain()
		}
		if c.longest > 0 {
			if out.Longest == nil {
				out.Longest = map[string]int{}
			}
			out.Longest[c.of()] = c.longest
		}
		if c.tokens > 0 {
			if out.Tokens == nil {
				out.Tokens = map[string]int64{}
			}
			out.Tokens[c.of()] += c.tokens
		}
		count(out, c.children)
		if c.element != nil {
			count(out, []*column{c.element})
		}
	}
}

// of returns the column's path by its names in the schema.
func (c *column) of() string {
	if c.parent == nil || c.parent.field.Name == "" {
		return c.field.Name
	}
	return c.parent.of() + "." + c.field.Name
}

// unfit describes a value that does not fit its column and costs its record a row. start and end delimit the record.
func unfit(start, end int, c *column, value []byte, widens bool) parse.Problem {
	f := &c.field
	p := parse.Problem{Start: start, End: end, Code: parse.DoesNotFit, Column: c.path, Value: string(value), Widens: widens,
		Reason: fmt.Sprintf("is not %s %s", article(f.Type.Kind), schema.Stated{Type: f.Type, Notation: f.Notation}),
		WayOut: fmt.Sprintf("mend the value, or keep the column as text with --type '%s=string'", c.path)}
	if c.required() {
		p.Reason += ", and the column is required"
	}
	if k := f.Type.Kind; k == schema.Double && f.Notation.Usual() {
		var scratch []byte
		if plain, ok := lexical.Plain(value, ',', &scratch); ok && !bytes.Equal(plain, value) {
			if v, ok := lexical.StatedDouble(plain); ok {
				p.WayOut = fmt.Sprintf("read it as %v with --type '%s=double(#.###,#)', or keep it as text with --type '%[2]s=string'", v,
					c.path)
			}
		}
	}
	return p
}

func isNumber(k schema.Kind) bool {
	return k == schema.Int || k == schema.Long || k == schema.Float || k == schema.Double || k == schema.Decimal
}

// lacking describes a record without a value in a required column.
func lacking(start, end int, c *column) parse.Problem {
	return parse.Problem{Start: start, End: end, Code: parse.NoValue, Column: c.path, Reason: "is no value, and the column is required",
		WayOut: "mend the record, or leave the column out of --required and --key"}
}

// required reports whether a record without a value is bad. Columns that the run adds are filled later.
func (c *column) required() bool { return (c.field.Required || c.field.Demanded) && !c.field.Added }

func article(k schema.Kind) string {
	if k == schema.Int {
		return "an"
	}
	return "a"
}
