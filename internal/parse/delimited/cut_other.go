//go:build !amd64

package delimited

// run goes through the words up to the first quote from bit from on, the first of which begins at base, and with the field at start. It returns how many
// whole words, fields and lines there were and where the next field begins.
func (c *cut) run(base, start, from int) (words, fields, lines, next int) {
	return c.runGo(base, start, from)
}
