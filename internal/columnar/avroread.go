package columnar

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/twmb/avro"

	"trevak/internal/schema"
)

// avroFile is an Avro object container file (Avro specification, "Object Container Files"). The library reads its schema.
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
	a.meta = header.meta
	if _, err := unpackAvro(a.codec(), nil); err != nil {
		return nil, err
	}
	parsed, err := avro.Parse(string(header.meta["avro.schema"]), avro.WithLaxNames(nil))
	if err != nil {
		return nil, fmt.Errorf("its schema: %w", err)
	}
	record := parsed.Root()
	if record.Type != "record" {
		return nil, fmt.Errorf("its values are of the type %s, not records", record.Type)
	}
	names := avroNames{}
	names.learn(record)
	a.root = &avroNode{of: record}
	if a.root.Type, a.root.parts, err = names.fields(record, 0); err != nil {
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
	return avroNull
}

// begin reads the header; what is returned with it goes on with the first block.
func (a *avroFile) begin() (header avroHeader, from *bufio.Reader, err error) {
	from = bufio.NewReaderSize(io.NewSectionReader(a.from, 0, a.size), 1<<20)
	header, err = readAvroHeader(from)
	return header, from, err
}

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
		if _, err := r.Peek(1); err == io.EOF {
			return nil
		}
		var records, size int64
		if records, err = binary.ReadVarint(r); err == nil {
			size, err = binary.ReadVarint(r)
		}
		if err == nil && (records < 0 || size < 0 || size > a.size) {
			return fmt.Errorf("block %d is said to have %d records in %d bytes", number, records, size)
		}
		var sync [16]byte
		if err == nil {
			data = slices.Grow(data[:0], int(size))[:size]
			_, err = io.ReadFull(r, data)
		}
		if err == nil {
			_, err = io.ReadFull(r, sync[:])
		}
		if err != nil {
			return fmt.Errorf("block %d: %w", number, cut(err))
		}
		if sync != header.sync {
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

// cut is an error of reading, where the end of the file is one too.
func cut(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (a *avroFile) batches(ctx context.Context, emit func(arrow.RecordBatch) error) error {
	build := array.NewRecordBuilder(memory.DefaultAllocator, a.tree)
	d := &avroDecoder{}
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
		d.reset(data)
		if d.entries = int64(len(data)) + spare; records > d.entries {
			return fmt.Errorf("block %d is said to have %d records in %d bytes", block, records, len(data))
		}
		d.entries -= records
		for range records {
			for i, decode := range columns {
				if decode(); d.err != nil {
					return fmt.Errorf("record %d, column %q: %w", rows+1, a.root.parts[i].Name, d.err)
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
