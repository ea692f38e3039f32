package columnar

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	pqschema "github.com/apache/arrow-go/v18/parquet/schema"

	"trevak/internal/columnar/decode"
)

// dense is the values of a leaf column that are there, one behind the other. Of the lists that of the physical type is used;
// codes are places in a dictionary.
type dense struct {
	ints    []int32
	longs   []int64
	floats  []float32
	doubles []float64
	flags   []byte // 0 or 1
	texts   decode.Texts
	codes   []uint32
	coded   bool
}

func (d *dense) reset() {
	d.ints, d.longs, d.floats, d.doubles, d.flags, d.codes = d.ints[:0], d.longs[:0], d.floats[:0], d.doubles[:0], d.flags[:0],
		d.codes[:0]
	d.texts.Reset()
	d.coded = false
}

// entries is what was read of a leaf column: its values, and the levels that say where they are. def is nil while all entries
// have a value.
type entries struct {
	dense
	n        int
	def, rep []uint16
	// dictionary is what codes are places in, where coded is set.
	dictionary *array.Data
}

// leafReader reads a leaf column of a row group, page after page. Page headers and compression are the library's.
type leafReader struct {
	leaf           *pqschema.Column
	pages          file.PageReader
	maxDef, maxRep uint16
	dictionary     dense
	defined        bool // the dictionary was met
	page           entries
	at             int // entries of the page that were taken
	value          int // values of the page that were taken
	bytes          int // of a value of fixed length
	spare          *entries
	numbered       bool        // places in the dictionary are kept as far as all values of a batch are such
	list           *array.Data // the dictionary as an array
}

func newLeafReader(group *file.RowGroupReader, column int, leaf *pqschema.Column) (*leafReader, error) {
	pages, err := group.GetColumnPageReader(column)
	if err != nil {
		return nil, err
	}
	return &leafReader{leaf: leaf, pages: pages, maxDef: uint16(leaf.MaxDefinitionLevel()), maxRep: uint16(leaf.MaxRepetitionLevel()),
		bytes: leaf.TypeLength()}, nil
}

// next reads the next page with data; ok is false when there is none.
func (r *leafReader) next() (ok bool, err error) {
	for r.pages.Next() {
		if ok, err := r.open(r.pages.Page()); ok || err != nil {
			return ok, err
		}
	}
	return false, r.pages.Err()
}

// open takes a page; ok is false for one without data.
func (r *leafReader) open(page file.Page) (ok bool, err error) {
	switch p := page.(type) {
	case *file.DictionaryPage:
		return false, r.define(p)
	case *file.DataPageV1:
		err = r.first(p)
	case *file.DataPageV2:
		err = r.second(p)
	default:
		return false, nil
	}
	r.at, r.value = 0, 0
	return err == nil, err
}

// define takes the dictionary.
func (r *leafReader) define(p *file.DictionaryPage) error {
	r.dictionary.reset()
	r.defined = true
	return r.plain(&r.dictionary, p.Data(), int(p.NumValues()))
}

// loadDictionary reads the dictionary where there is one that was not met yet.
func (r *leafReader) loadDictionary() error {
	if r.defined {
		return nil
	}
	p, err := r.pages.GetDictionaryPage()
	if err != nil || p == nil {
		return err
	}
	return r.define(p)
}

// first takes a data page of version 1: levels with their lengths before them, then values.
func (r *leafReader) first(p *file.DataPageV1) error {
	data, n := p.Data(), int(p.NumValues())
	if r.maxRep > 0 && p.RepetitionLevelEncoding() != parquet.Encodings.RLE || r.maxDef > 0 &&
		p.DefinitionLevelEncoding() != parquet.Encodings.RLE {
		return fmt.Errorf("levels in the encoding %s are not read", p.DefinitionLevelEncoding())
	}
	var levels [2][]byte
	for i, most := range []uint16{r.maxRep, r.maxDef} {
		if most == 0 {
			continue
		}
		if len(data) < 4 || uint64(binary.LittleEndian.Uint32(data)) > uint64(len(data)-4) {
			return fmt.Errorf("%w: levels are cut short", decode.ErrDamaged)
		}
		size := binary.LittleEndian.Uint32(data)
		levels[i], data = data[4:4+size], data[4+size:]
	}
	return r.decode(levels[0], levels[1], data, n, parquet.Encoding(p.Encoding()))
}

// second takes a data page of version 2, of which the header has the lengths of levels.
func (r *leafReader) second(p *file.DataPageV2) error {
	data := p.Data()
	rep, def := int(p.RepetitionLevelByteLen()), int(p.DefinitionLevelByteLen())
	if rep < 0 || def < 0 || rep+def > len(data) {
		return fmt.Errorf("%w: levels are cut short", decode.ErrDamaged)
	}
	return r.decode(data[:rep], data[rep:rep+def], data[rep+def:], int(p.NumValues()), parquet.Encoding(p.Encoding()))
}

// decode reads the levels and values of a page of n entries.
func (r *leafReader) decode(rep, def, data []byte, n int, encoding parquet.Encoding) (err error) {
	r.page.reset()
	r.page.n, r.page.def, r.page.rep = n, r.page.def[:0], r.page.rep[:0]
	if r.maxRep > 0 {
		if r.page.rep, err = decode.Hybrid(r.page.rep, rep, bits.Len16(r.maxRep), n); err != nil {
			return err
		}
	}
	values := n
	if r.maxDef > 0 && !decode.Same(def, bits.Len16(r.maxDef), n, uint32(r.maxDef)) {
		if r.page.def, err = decode.Hybrid(r.page.def, def, bits.Len16(r.maxDef), n); err != nil {
			return err
		}
		values = decode.Count(r.page.def, r.maxDef)
	}
	return r.values(data, values, encoding)
}

// values reads n values in an encoding.
func (r *leafReader) values(data []byte, n int, encoding parquet.Encoding) (err error) {
	v := &r.page.dense
	kind := r.leaf.PhysicalType()
	switch encoding {
	case parquet.Encodings.Plain:
		return r.plain(v, data, n)
	case parquet.Encodings.RLEDict, parquet.Encodings.PlainDict:
		v.coded = true
		v.codes, err = decode.Indices(v.codes, data, n)
		return err
	case parquet.Encodings.RLE:
		v.flags, err = decode.RunBooleans(v.flags, data, n)
		return err
	case parquet.Encodings.DeltaBinaryPacked:
		if v.longs, _, err = decode.Delta(v.longs, data, n); err == nil && len(v.longs) != n {
			err = fmt.Errorf("%w: %d numbers where %d are expected", decode.ErrDamaged, len(v.longs), n)
		}
		if kind == parquet.Types.Int32 {
			for _, long := range v.longs {
				v.ints = append(v.ints, int32(long))
			}
			v.longs = v.longs[:0]
		}
		return err
	case parquet.Encodings.DeltaLengthByteArray:
		return decode.DeltaLengthTexts(&v.texts, data, n)
	case parquet.Encodings.DeltaByteArray:
		return decode.DeltaTexts(&v.texts, data, n)
	case parquet.Encodings.ByteStreamSplit:
		joined, err := decode.Joined(data, n, r.width())
		if err != nil {
			return err
		}
		return r.plain(v, joined, n)
	}
	return fmt.Errorf("the encoding %s is not read", encoding)
}

// width is how many bytes a value has in plain encoding.
func (r *leafReader) width() int {
	switch r.leaf.PhysicalType() {
	case parquet.Types.Int32, parquet.Types.Float:
		return 4
	case parquet.Types.Int64, parquet.Types.Double:
		return 8
	}
	return r.bytes
}

// plain reads n values one behind the other.
func (r *leafReader) plain(v *dense, data []byte, n int) (err error) {
	switch r.leaf.PhysicalType() {
	case parquet.Types.Boolean:
		v.flags, err = decode.Booleans(v.flags, data, n)
		return err
	case parquet.Types.ByteArray:
		return decode.PlainTexts(&v.texts, data, n)
	case parquet.Types.FixedLenByteArray:
		return decode.FixedTexts(&v.texts, data, n, r.bytes)
	}
	if data, err = decode.Plain(data, n, r.width()); err != nil {
		return err
	}
	switch r.leaf.PhysicalType() {
	case parquet.Types.Int32:
		for ; len(data) > 0; data = data[4:] {
			v.ints = append(v.ints, int32(binary.LittleEndian.Uint32(data)))
		}
	case parquet.Types.Int64:
		for ; len(data) > 0; data = data[8:] {
			v.longs = append(v.longs, int64(binary.LittleEndian.Uint64(data)))
		}
	case parquet.Types.Float:
		for ; len(data) > 0; data = data[4:] {
			v.floats = append(v.floats, math.Float32frombits(binary.LittleEndian.Uint32(data)))
		}
	case parquet.Types.Double:
		for ; len(data) > 0; data = data[8:] {
			v.doubles = append(v.doubles, math.Float64frombits(binary.LittleEndian.Uint64(data)))
		}
	default:
		return fmt.Errorf("the type %s is not read", r.leaf.PhysicalType())
	}
	return nil
}

// read takes the entries of so many rows.
func (r *leafReader) read(rows int, out *entries) error {
	for begun := 0; ; {
		if r.at == r.page.n {
			// A row of a list may go on in the next page.
			if begun == rows && r.maxRep == 0 {
				return nil
			}
			ok, err := r.next()
			if err != nil {
				return err
			}
			if !ok {
				if begun < rows {
					return fmt.Errorf("%w: it ends after %d of %d rows", decode.ErrDamaged, begun, rows)
				}
				return nil
			}
			continue
		}
		n := 0
		if r.maxRep == 0 {
			n = min(rows-begun, r.page.n-r.at)
			begun += n
		} else {
			for _, rep := range r.page.rep[r.at:] {
				if rep == 0 {
					if begun == rows {
						break
					}
					begun++
				}
				n++
			}
		}
		if n == 0 {
			return nil
		}
		if err := r.take(n, out); err != nil {
			return err
		}
	}
}

// take moves entries of the page to others.
func (r *leafReader) take(n int, out *entries) error {
	values := n
	if len(r.page.def) > 0 {
		def := r.page.def[r.at : r.at+n]
		for len(out.def) < out.n {
			out.def = append(out.def, r.maxDef)
		}
		out.def = append(out.def, def...)
		values = decode.Count(def, r.maxDef)
	} else if len(out.def) > 0 {
		for range n {
			out.def = append(out.def, r.maxDef)
		}
	}
	if r.maxRep > 0 {
		out.rep = append(out.rep, r.page.rep[r.at:r.at+n]...)
	}
	out.n += n
	from := r.value
	r.at, r.value = r.at+n, from+values
	return r.move(from, from+values, &out.dense)
}

// move copies values of the page to others, out of the dictionary where they are places in it.
func (r *leafReader) move(from, to int, out *dense) (err error) {
	p, d := &r.page.dense, &r.dictionary
	if r.numbered && p.coded && (out.coded || out.none()) {
		out.coded = true
		out.codes, err = places(out.codes, p.codes[from:to], r.dictionaryLen())
		return err
	}
	if out.coded {
		if err := r.spell(out); err != nil {
			return err
		}
	}
	switch r.leaf.PhysicalType() {
	case parquet.Types.Int32:
		out.ints, err = moved(out.ints, p.ints, d.ints, p, from, to)
	case parquet.Types.Int64:
		out.longs, err = moved(out.longs, p.longs, d.longs, p, from, to)
	case parquet.Types.Float:
		out.floats, err = moved(out.floats, p.floats, d.floats, p, from, to)
	case parquet.Types.Double:
		out.doubles, err = moved(out.doubles, p.doubles, d.doubles, p, from, to)
	case parquet.Types.Boolean:
		out.flags, err = moved(out.flags, p.flags, d.flags, p, from, to)
	default:
		return movedTexts(&out.texts, p, d, from, to)
	}
	return err
}

// none reports whether there are no values.
func (d *dense) none() bool {
	return len(d.ints)+len(d.longs)+len(d.floats)+len(d.doubles)+len(d.flags)+len(d.codes)+d.texts.Len() == 0
}

// places appends places in a dictionary of so many values.
func places(out, codes []uint32, values int) ([]uint32, error) {
	for _, code := range codes {
		if int(code) >= values {
			return out, fmt.Errorf("%w: place %d in a dictionary of %d", decode.ErrDamaged, code, values)
		}
	}
	return append(out, codes...), nil
}

func (r *leafReader) dictionaryLen() int {
	d := &r.dictionary
	return max(len(d.ints), len(d.longs), len(d.floats), len(d.doubles), d.texts.Len())
}

// spell puts the values that places stand for where these are: others follow that are not in the dictionary.
func (r *leafReader) spell(out *dense) error {
	kept, page := out.codes, r.page.dense
	out.coded, out.codes = false, nil
	r.page.dense = dense{codes: kept, coded: true}
	numbered := r.numbered
	r.numbered = false
	err := r.move(0, len(kept), out)
	r.page.dense, r.numbered = page, numbered
	return err
}

// dictionaryOf returns the dictionary as an array of a type.
func (r *leafReader) dictionaryOf(t arrow.DataType) (*array.Data, error) {
	if r.list == nil {
		n := r.dictionaryLen()
		buffers, err := (&entries{dense: r.dictionary, n: n}).buffers(t, nil, n)
		if err != nil {
			return nil, err
		}
		r.list = array.NewData(t, n, append([]*memory.Buffer{nil}, buffers...), nil, 0, 0)
	}
	return r.list, nil
}

func moved[T any](out, values, dictionary []T, p *dense, from, to int) ([]T, error) {
	if !p.coded {
		if to > len(values) {
			return out, fmt.Errorf("%w: %d values where %d are expected", decode.ErrDamaged, len(values), to)
		}
		return append(out, values[from:to]...), nil
	}
	for _, code := range p.codes[from:to] {
		if int(code) >= len(dictionary) {
			return out, fmt.Errorf("%w: place %d in a dictionary of %d", decode.ErrDamaged, code, len(dictionary))
		}
		out = append(out, dictionary[code])
	}
	return out, nil
}

func movedTexts(out *decode.Texts, p, d *dense, from, to int) error {
	if !p.coded {
		if to > p.texts.Len() {
			return fmt.Errorf("%w: %d values where %d are expected", decode.ErrDamaged, p.texts.Len(), to)
		}
		out.AddAll(&p.texts, from, to)
		return nil
	}
	for _, code := range p.codes[from:to] {
		if int(code) >= d.texts.Len() {
			return fmt.Errorf("%w: place %d in a dictionary of %d", decode.ErrDamaged, code, d.texts.Len())
		}
		out.Add(d.texts.At(int(code)))
	}
	return nil
}

// seek passes over the rows from one to before another, whole pages unread where the file tells where they begin.
func (r *leafReader) seek(at, to int64, indexed bool) error {
	near := r.maxRep == 0 && to-at <= int64(r.page.n-r.at)
	if near || !indexed {
		return r.read(int(to-at), &entries{})
	}
	if err := r.loadDictionary(); err != nil {
		return err
	}
	if err := r.pages.SeekToPageWithRow(to); err != nil {
		return err
	}
	page, ok := r.pages.Page().(interface {
		file.Page
		FirstRowIndex() int64
	})
	if !ok {
		return fmt.Errorf("%w: there is no page with row %d", decode.ErrDamaged, to)
	}
	if ok, err := r.open(page); !ok {
		return errors.Join(err, decode.ErrDamaged)
	}
	return r.read(int(to-page.FirstRowIndex()), &entries{})
}
