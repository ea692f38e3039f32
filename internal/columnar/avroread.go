package columnar

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"trevak/internal/schema"
)

// avroFile is an Avro object container file (Avro specification, "Object Container Files"). The library reads headers and single values.
type avroFile struct {
	from io.ReaderAt
	size int64
	tree *arrow.Schema
	root *avroNode
	meta map[string][]byte
}

func openAvro(from io.ReaderAt, size int64) (rowReader, error) {
	a := &avroFile{from: from, size: size}
	header, _, err := a.begin()
	if err != nil {
		return nil, err
	}
	a.meta = header.Meta
	if _, err := unpackAvro(a.codec(), nil); err != nil {
		return nil, err
	}
	parsed, err := avro.ParseBytesWithCache(header.Meta["avro.schema"], "", &avro.SchemaCache{})
	if err != nil {
		return nil, fmt.Errorf("its schema: %w", err)
	}
	record, ok := parsed.(*avro.RecordSchema)
	if !ok {
		return nil, fmt.Errorf("its values are of the type %s, not records", parsed.Type())
	}
	a.root = &avroNode{of: record}
	if a.root.Type, a.root.parts, err = avroFields(record, 0); err != nil {
		return nil, err
	}
	a.tree = schema.Schema{Fields: a.root.Type.Fields}.Arrow()
	return a, nil
}

// codec is the name of the codec that blocks are packed with.
func (a *avroFile) codec() string {
	if codec := string(a.meta["avro.codec"]); codec != "" {
		return codec
	}
	return string(ocf.Null)
}

// begin reads the header; what is returned with it goes on with the first block.
func (a *avroFile) begin() (header ocf.Header, from *avro.Reader, err error) {
	r := avro.NewReader(bufio.NewReaderSize(io.NewSectionReader(a.from, 0, a.size), 1<<20), 4<<10, avro.WithReaderConfig(avroLimits))
	r.ReadVal(ocf.HeaderSchema, &header)
	if r.Error != nil {
		return header, nil, errors.New("its header is damaged")
	}
	return header, r, nil
}

// avroLimits bound what a damaged file can make the library ask for: bytes of one value, and elements of one list.
var avroLimits = avro.Config{MaxByteSliceSize: mostAvroBlock, MaxSliceAllocSize: mostWithoutBytes}.Freeze()

// mostWithoutBytes bounds how many records and elements of a file may take no bytes: there can be said to be very many of them.
const mostWithoutBytes = 16 << 20

func (a *avroFile) schema() *arrow.Schema { return a.tree }

func (a *avroFile) format() string { return "Avro" }

func (a *avroFile) rows() int64 { return -1 }

// blocks hands on the blocks of the file, packed as they are, with the number of their records; the memory of data is used again.
func (a *avroFile) blocks(ctx context.Context, emit func(records int64, data []byte) error) error {
	header, r, err := a.begin()
	if err != nil {
		return err
	}
	var data []byte
	for number := 1; ; number++ {
		r.Peek()
		if errors.Is(r.Error, io.EOF) {
			return nil
		}
		records, size := r.ReadLong(), r.ReadLong()
		if r.Error == nil && (records < 0 || size < 0 || size > a.size) {
			return fmt.Errorf("block %d is said to have %d records in %d bytes", number, records, size)
		}
		if r.Error == nil {
			data = slices.Grow(data[:0], int(size))[:size]
			r.Read(data)
		}
		var sync [16]byte
		r.Read(sync[:])
		if r.Error != nil {
			return fmt.Errorf("block %d: %w", number, r.Error)
		}
		if sync != header.Sync {
			return fmt.Errorf("block %d does not end with the mark of the file", number)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := emit(records, data); err != nil {
			return err
		}
	}
}

func (a *avroFile) batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.tree)
	r := avro.NewReader(nil, 0, avro.WithReaderConfig(avroLimits))
	d := &avroDecoder{Reader: r}
	columns := make([]avroDecode, len(a.root.parts))
	for i, part := range a.root.parts {
		columns[i] = part.decoder(d, build.Field(i))
	}
	rows, spare := 0, int64(mostWithoutBytes)
	block := 0
	err := a.blocks(ctx, func(records int64, packed []byte) error {
		block++
		data, err := unpackAvro(a.codec(), packed)
		if err != nil {
			return fmt.Errorf("block %d: %w", block, err)
		}
		r.Reset(data)
		if d.entries = int64(len(data)) + spare; records > d.entries {
			return fmt.Errorf("block %d is said to have %d records in %d bytes", block, records, len(data))
		}
		d.entries -= records
		for range records {
			for i, decode := range columns {
				if decode(); r.Error != nil {
					return fmt.Errorf("record %d, column %q: %w", rows+1, a.root.parts[i].Name, r.Error)
				}
			}
			if rows++; rows%batchRows == 0 {
				if err := emit(build.NewRecordBatch()); err != nil {
					return err
				}
			}
		}
		spare = min(spare, d.entries)
		return nil
	})
	if err != nil || rows%batchRows == 0 {
		return err
	}
	return emit(build.NewRecordBatch())
}

func (a *avroFile) parts(ctx context.Context, out *Layout) (codec string, err error) {
	for key, value := range a.meta {
		if !strings.HasPrefix(key, "avro.") {
			out.Keys[key] = len(value)
		}
	}
	return a.codec(), a.blocks(ctx, func(records int64, data []byte) error {
		out.Groups = append(out.Groups, GroupLayout{Rows: records, Bytes: int64(len(data))})
		return nil
	})
}
