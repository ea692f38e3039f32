package columnar

import (
	"context"

	"github.com/apache/arrow-go/v18/arrow"

	"trevak/internal/schema"
)

// Counted reports whether the file tells nothing of its columns, so that to describe it is to read it.
func (f *File) Counted() bool {
	_, isORC := f.other.(*orcFile)
	return f.other != nil && !isORC
}

// otherLayout describes a file that says little of its columns: they are read and counted.
func (f *File) otherLayout() (Layout, error) {
	ctx := context.Background()
	out := Layout{Location: f.location, Format: f.other.format(), Bytes: f.size, Keys: map[string]int{}}
	codecs := []string{}
	if r, ok := f.other.(partsReader); ok {
		codec, err := r.parts(ctx, &out)
		if err != nil {
			return out, broken(f.location, err)
		}
		if codec != "" {
			codecs = append(codecs, codec)
		}
	}
	counts := newTally(f.Schema)
	_, counts.memory = f.other.(*arrowFile)
	if err := f.Batches(ctx, func(b arrow.RecordBatch) error {
		out.Rows += b.NumRows()
		counts.add(b)
		return nil
	}); err != nil {
		return out, err
	}
	f.Schema.Walk(func(path string, field *schema.Field) {
		if field.Type.Nested() {
			return
		}
		leaf := counts.leaves[len(out.Columns)]
		out.Columns = append(out.Columns, ColumnLayout{Path: path, ID: field.ID, Type: field.Type.String(), Codecs: codecs,
			Encodings: []string{},
			RawBytes:  leaf.RawBytes, Values: leaf.Values, Nulls: leaf.Nulls, HasMinMax: leaf.low != nil, Smallest: leaf.smallest,
			Largest: leaf.largest})
	})
	return out, nil
}
