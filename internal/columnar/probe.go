package columnar

import (
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/cespare/xxhash/v2"
)

// bloomMayHold asks the Bloom filter of a column chunk for the values of a bound (Parquet specification, "Bloom Filter").
func (f *File) bloomMayHold(g int, b leafBound) bool {
	chunk, err := f.reader.MetaData().RowGroup(g).ColumnChunk(b.leaf)
	if err != nil || chunk.BloomFilterOffset() <= 0 {
		return true
	}
	group, err := f.reader.GetBloomFilterReader().RowGroup(g)
	if err != nil || group == nil {
		return true
	}
	filter, err := group.GetColumnBloomFilter(b.leaf)
	if err != nil || filter == nil {
		return true
	}
	for _, v := range b.Values {
		plain, ok := plainOf(b.column, v)
		if !ok || !b.sameKind(v) || filter.CheckHash(xxhash.Sum64(plain)) {
			return true
		}
	}
	return false
}

// dictionaryMayHold looks for the values of a bound in the dictionary of a column chunk, if all of its values are there.
func (f *File) dictionaryMayHold(g int, b leafBound) bool {
	chunk, err := f.reader.MetaData().RowGroup(g).ColumnChunk(b.leaf)
	if err != nil || !chunk.HasDictionaryPage() || len(chunk.EncodingStats()) == 0 {
		return true
	}
	for _, s := range chunk.EncodingStats() {
		data := s.PageType == file.PageTypeDataPage || s.PageType == file.PageTypeDataPageV2
		if data && s.Encoding != parquet.Encodings.RLEDict && s.Encoding != parquet.Encodings.PlainDict {
			return true
		}
	}
	r, err := newLeafReader(f.reader.RowGroup(g), b.leaf, b.column)
	if err != nil {
		return true
	}
	defer r.pages.Close()
	if err := r.loadDictionary(); err != nil {
		return true
	}
	for _, v := range b.Values {
		plain, ok := plainOf(b.column, v)
		if !ok || !b.sameKind(v) || r.dictionary.has(b.column.PhysicalType(), plain) {
			return true
		}
	}
	return false
}

// has reports whether a value in plain encoding is among others.
func (d *dense) has(kind parquet.Type, plain []byte) bool {
	switch kind {
	case parquet.Types.Int32:
		for _, v := range d.ints {
			if v == int32(littleEndian(plain)) {
				return true
			}
		}
		return false
	case parquet.Types.Int64:
		for _, v := range d.longs {
			if v == int64(littleEndian(plain)) {
				return true
			}
		}
		return false
	case parquet.Types.ByteArray:
		for i := range d.texts.Len() {
			if string(d.texts.At(i)) == string(plain) {
				return true
			}
		}
		return false
	}
	return true
}

func littleEndian(plain []byte) (v uint64) {
	for i, b := range plain {
		v |= uint64(b) << (8 * i)
	}
	return v
}
