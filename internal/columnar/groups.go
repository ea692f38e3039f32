package columnar

import (
	"context"
	"fmt"

	"trevak/internal/columnar/decode"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

// groupReader reads the rows of a Parquet file, a row group after the other. Footers, page headers and compression are the
// library's, levels and values are decoded here.
type groupReader struct {
	file   *File
	schema *arrow.Schema
	parts  []*part
	leaves []int
	// numbered are the leaf columns whose values may come as places in a dictionary; workers is how many columns are read at a time.
	numbered map[int]bool
	workers  int
}

// newGroupReader prepares to read some of the top-level columns; ok is false for a file that only the library reads.
func newGroupReader(f *File, columns []int) (r *groupReader, ok bool) {
	footer := f.reader.MetaData()
	manifest, err := pqarrow.NewSchemaManifest(footer.Schema, footer.KeyValueMetadata(), nil)
	if err != nil {
		return nil, false
	}
	r = &groupReader{file: f}
	var fields []arrow.Field
	for _, at := range columns {
		if at >= len(manifest.Fields) {
			return nil, false
		}
		p, ok := newPart(&manifest.Fields[at], true)
		if !ok {
			return nil, false
		}
		r.parts, r.leaves = append(r.parts, p), p.leaves(r.leaves)
		fields = append(fields, *manifest.Fields[at].Field)
	}
	r.schema = arrow.NewSchema(fields, nil)
	for g := range footer.NumRowGroups() {
		for _, leaf := range r.leaves {
			chunk, err := footer.RowGroup(g).ColumnChunk(leaf)
			if err != nil || chunk.CryptoMetadata() != nil || chunk.Type() == parquet.Types.Int96 {
				return nil, false
			}
			for _, e := range chunk.Encodings() {
				if e == parquet.Encodings.BitPacked {
					return nil, false
				}
			}
		}
	}
	return r, true
}

// number asks for places in dictionaries.
func (r *groupReader) number() {
	r.numbered = map[int]bool{}
	for _, p := range r.parts {
		if p.numbered() {
			r.numbered[p.leaf] = true
		}
	}
}

// span is rows from one to before another, of a row group.
type span struct{ from, to int64 }

// group hands over rows of a row group, and how many of it came before those of a batch.
func (r *groupReader) group(ctx context.Context, g int, spans []span, emit func(arrow.RecordBatch, int64) error) error {
	readers := make([]*leafReader, len(r.leaves))
	rows := r.file.reader.RowGroup(g)
	for i, leaf := range r.leaves {
		var err error
		if readers[i], err = newLeafReader(rows, leaf, r.file.reader.MetaData().Schema.Column(leaf)); err != nil {
			return r.damage(g, leaf, err)
		}
		defer readers[i].pages.Close()
	}
	for i, leaf := range r.leaves {
		readers[i].numbered = r.numbered[leaf]
	}
	step := rowsAtATime(len(r.leaves))
	at := int64(0)
	for _, s := range spans {
		if s.from > at {
			for i, leaf := range r.leaves {
				if err := readers[i].seek(at, s.from, r.file.seekable(g, leaf)); err != nil {
					return r.damage(g, leaf, err)
				}
			}
		}
		for at = s.from; at < s.to; at += min(step, s.to-at) {
			if err := ctx.Err(); err != nil {
				return err
			}
			batch, err := r.batch(g, readers, int(min(step, s.to-at)))
			if err != nil {
				return err
			}
			if err := emit(batch, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// batch reads some rows.
func (r *groupReader) batch(g int, readers []*leafReader, n int) (arrow.RecordBatch, error) {
	of, err := r.read(g, readers, n)
	if err != nil {
		return nil, err
	}
	columns, fields := make([]arrow.Array, len(r.parts)), r.schema.Fields()
	for i, p := range r.parts {
		data, err := p.build(of)
		if err == nil && data.Len() != n {
			err = fmt.Errorf("%d rows where %d are expected", data.Len(), n)
		}
		if err != nil {
			return nil, r.damage(g, p.first(), err)
		}
		columns[i] = array.MakeFromData(data)
		fields[i].Type = data.DataType()
	}
	for i, leaf := range r.leaves {
		readers[i].release(of[leaf])
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, int64(n)), nil
}

// read reads the entries of some rows, of several leaf columns at a time.
func (r *groupReader) read(g int, readers []*leafReader, n int) (map[int]*entries, error) {
	list := make([]*entries, len(readers))
	err := sideBySide(len(readers), r.workers, func(i int) error {
		list[i] = readers[i].room(n)
		if err := readers[i].read(n, list[i]); err != nil {
			return r.damage(g, r.leaves[i], err)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	of := make(map[int]*entries, len(list))
	for i, leaf := range r.leaves {
		e := list[i]
		if e.coded {
			var err error
			if e.dictionary, err = readers[i].dictionaryOf(r.typeOf(leaf)); err != nil {
				return nil, r.damage(g, leaf, err)
			}
		}
		of[leaf] = e
	}
	return of, nil
}

// typeOf is the type of a leaf column that is a column itself.
func (r *groupReader) typeOf(leaf int) arrow.DataType {
	for _, p := range r.parts {
		if p.leaf == leaf {
			return p.kind
		}
	}
	return nil
}

// damage tells where a file is damaged.
func (r *groupReader) damage(g, leaf int, err error) error {
	return fmt.Errorf("row group %d, column %q: %w", g+1, r.file.reader.MetaData().Schema.Column(leaf).Path(), err)
}

// room is entries with room for the values of so many rows.
func (r *leafReader) room(n int) *entries {
	if e := r.spare; e != nil {
		r.spare = nil
		e.reset()
		e.n, e.def, e.rep = 0, e.def[:0], e.rep[:0]
		return e
	}
	e := &entries{}
	switch r.leaf.PhysicalType() {
	case parquet.Types.Int32:
		e.ints = make([]int32, 0, n)
	case parquet.Types.Int64:
		e.longs = make([]int64, 0, n)
	case parquet.Types.Float:
		e.floats = make([]float32, 0, n)
	case parquet.Types.Double:
		e.doubles = make([]float64, 0, n)
	case parquet.Types.Boolean:
		e.flags = make([]byte, 0, n)
	default:
		e.texts.Ends = make([]int32, 0, n)
	}
	return e
}

// release takes entries back whose values were copied to where they belong among absent ones; those of other columns are part
// of arrays now.
func (r *leafReader) release(e *entries) {
	copied := r.maxRep == 0 && len(e.def) > 0 && decode.Count(e.def, r.maxDef) < e.n && e.texts.Len() == 0
	if copied && r.leaf.PhysicalType() != parquet.Types.ByteArray && r.leaf.PhysicalType() != parquet.Types.FixedLenByteArray {
		r.spare = e
	}
}
