package delimited

import "golang.org/x/sys/cpu"

// cutBMI is run by the instructions for bits of newer processors. There must be a word.
//
//go:noescape
func cutBMI(c *cut, base, start int) (fields, lines, opened, next int)

var hasBMI = cpu.X86.HasBMI1 && cpu.X86.HasPOPCNT

// run goes through the words, the first of which begins at base, and with the field at start. It returns how many fields, lines
// and opening quotes there were and where the next field begins.
func (c *cut) run(base, start int) (fields, lines, opened, next int) {
	if hasBMI && len(c.ends) > 0 {
		return cutBMI(c, base, start)
	}
	return c.runGo(base, start)
}
