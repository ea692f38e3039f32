package delimited

import "golang.org/x/sys/cpu"

// cutBMI is run by the instructions for bits of newer processors. There must be a word.
//
//go:noescape
func cutBMI(c *cut, base, start, from int) (words, fields, lines, next int)

var hasBMI = cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// run goes through the words up to the first quote from bit from on, the first of which begins at base, and with the field at start. It returns how many
// whole words, fields and lines there were and where the next field begins.
func (c *cut) run(base, start, from int) (words, fields, lines, next int) {
	if hasBMI && len(c.ends) > 0 {
		return cutBMI(c, base, start, from)
	}
	return c.runGo(base, start, from)
}
