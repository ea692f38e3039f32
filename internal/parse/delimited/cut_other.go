//go:build !amd64

package delimited

// run goes through the words, the first of which begins at base, and with the field at start. It returns how many fields, lines
// and opening quotes there were and where the next field begins.
func (c *cut) run(base, start int) (fields, lines, opened, next int) {
	return c.runGo(base, start)
}
