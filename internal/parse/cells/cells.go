// Package cells holds the texts of one column of a block as places within it, and gathers many of them at once for those who read values.
//
// What comes in are spans, one for each record, from a parser of any format; what goes out are texts, the quotes or escapes undone
// where there are any, and short ones as numbers and words that are read, compared and looked up without a loop over their bytes.
package cells

// Span delimits a text within a block. The top bit of Start says that it stood in quotes, which are not part of it, that of End
// that characters in it stand for others: doubled quotes, or escapes.
type Span struct{ Start, End uint32 }

// Flag is the top bit of Start and End.
const Flag = 1 << 31

// Text returns the span's text as it stands in the block.
func (s Span) Text(data []byte) []byte { return data[s.Start&^Flag : s.End&^Flag] }

// Quoted reports whether the text stood in quotes.
func (s Span) Quoted() bool { return s.Start&Flag != 0 }

// Escaped reports whether characters in the text stand for others.
func (s Span) Escaped() bool { return s.End&Flag != 0 }

// Column is the texts of one column. Where there is no value the text is empty and not quoted.
type Column struct {
	Data []byte
	// Spans are those of the column, Stride apart, from the first one on.
	Spans  []Span
	Stride int
	// Unquoter undoes what stands for others in a text. It is asked for texts that are Escaped alone.
	Unquoter Unquoter
}

// Unquoter appends a text to dst with what stands for others undone.
type Unquoter interface {
	Unquote(dst, text []byte) []byte
}

// Text returns text i as it stands in the block, without the quotes around it.
func (c *Column) Text(i int) (text []byte, quoted, escaped bool) {
	s := c.Spans[i*c.Stride]
	return s.Text(c.Data), s.Quoted(), s.Escaped()
}

// Value is Text with what stands for others undone, in scratch where that is needed.
func (c *Column) Value(i int, scratch *[]byte) (text []byte, quoted bool) {
	text, quoted, escaped := c.Text(i)
	if escaped {
		*scratch = c.Unquoter.Unquote((*scratch)[:0], text)
		text = *scratch
	}
	return text, quoted
}
