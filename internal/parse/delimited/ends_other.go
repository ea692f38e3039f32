//go:build !amd64

package delimited

// add takes text, and returns bits where quotes open otherwise than at the beginning of a field or doubled. More text can
// follow whole words only.
func (e *ends) add(data []byte, delimiter, quote byte) (odd uint64) {
	return e.addMasks(data, delimiter, quote)
}
