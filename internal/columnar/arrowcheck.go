package columnar

import (
	"encoding/binary"
	"fmt"
	"io"

	"trevak/internal/magic"

	flatbuffers "github.com/google/flatbuffers/go"
)

// checkArrow walks through the schema in the footer of an Arrow file, and fails where it cannot be one: the library makes room
// for as many fields as a damaged footer says there are. Reading beyond the footer panics, which Open catches.
func checkArrow(from io.ReaderAt, whole int64) error {
	// The file ends in the footer, its length in four bytes, and the magic ("IPC File Format").
	tail := make([]byte, 4+len(magic.Arrow))
	if _, err := from.ReadAt(tail, whole-int64(len(tail))); err != nil {
		return err
	}
	size := int64(binary.LittleEndian.Uint32(tail))
	if string(tail[4:]) != magic.Arrow || size < 8 || size > whole-int64(len(tail)) {
		return fmt.Errorf("it does not end as an Arrow file does")
	}
	footer := make([]byte, size)
	if _, err := from.ReadAt(footer, whole-int64(len(tail))-size); err != nil {
		return err
	}
	root := flatbuffers.Table{Bytes: footer, Pos: flatbuffers.GetUOffsetT(footer)}
	schema, ok := member(root, 1)
	if !ok {
		return fmt.Errorf("its footer has no schema")
	}
	budget := 1_000_000
	return checkFields(schema, 1, 2, 0, &budget)
}

// member returns the table that a slot of another refers to.
func member(t flatbuffers.Table, slot int) (flatbuffers.Table, bool) {
	at := flatbuffers.UOffsetT(t.Offset(flatbuffers.VOffsetT(4 + 2*slot)))
	if at == 0 {
		return t, false
	}
	return flatbuffers.Table{Bytes: t.Bytes, Pos: t.Indirect(at + t.Pos)}, true
}

// length returns how many elements of four bytes the vector in a slot has, and where they begin.
func length(t flatbuffers.Table, slot int) (n int, start flatbuffers.UOffsetT, err error) {
	at := flatbuffers.UOffsetT(t.Offset(flatbuffers.VOffsetT(4 + 2*slot)))
	if at == 0 {
		return 0, 0, nil
	}
	n, start = t.VectorLen(at), t.Vector(at)
	if n < 0 || int64(start)+4*int64(n) > int64(len(t.Bytes)) {
		return 0, 0, fmt.Errorf("its footer counts %d fields where there is no room for them", n)
	}
	return n, start, nil
}

// checkFields checks the fields in one slot of a table, and the metadata in another.
func checkFields(t flatbuffers.Table, slot, metadata, depth int, budget *int) error {
	const deepest, children, fieldMetadata = 100, 5, 6
	if depth > deepest {
		return fmt.Errorf("its schema is more than %d deep", deepest)
	}
	if _, _, err := length(t, metadata); err != nil {
		return err
	}
	n, start, err := length(t, slot)
	if err != nil {
		return err
	}
	if *budget -= n; *budget < 0 {
		return fmt.Errorf("its schema has too many fields")
	}
	for i := range n {
		field := flatbuffers.Table{Bytes: t.Bytes, Pos: t.Indirect(start + flatbuffers.UOffsetT(4*i))}
		if err := checkFields(field, children, fieldMetadata, depth+1, budget); err != nil {
			return err
		}
	}
	return nil
}
