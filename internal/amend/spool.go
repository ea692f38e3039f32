package amend

import (
	"bufio"
	"context"
	"fmt"
	"io"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/compute"
	"github.com/apache/arrow-go/v18/arrow/ipc"

	"trevak/internal/columnar"
	"trevak/internal/storage"
)

// spool keeps batches in their order until they are wanted: the first of them in memory, and what that has no room for on the disk.
type spool struct {
	most    int64 // bytes in memory
	dir     string
	batches []arrow.RecordBatch
	bytes   int64

	file   *storage.Scratch // nil until something is on the disk
	buffer *bufio.Writer
	writer *ipc.Writer
}

// add takes a batch, whose memory has to stay as it is.
func (s *spool) add(ctx context.Context, b arrow.RecordBatch) error {
	n := columnar.BatchBytes(b)
	if s.file == nil && s.bytes+n <= s.most {
		s.batches, s.bytes = append(s.batches, b), s.bytes+n
		return nil
	}
	b, err := plain(ctx, b)
	if err != nil {
		return err
	}
	if s.file == nil {
		if s.file, err = storage.NewScratch(s.dir); err != nil {
			return fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
		}
		s.buffer = bufio.NewWriterSize(s.file, 1<<20)
		s.writer = ipc.NewWriter(s.buffer, ipc.WithSchema(b.Schema()))
	}
	if err := s.writer.Write(b); err != nil {
		return fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
	}
	return nil
}

// each hands on all batches in their order; those that were in memory are gone from it then.
func (s *spool) each(take func(arrow.RecordBatch) error) error {
	for i, b := range s.batches {
		s.batches[i] = nil
		if err := take(b); err != nil {
			return err
		}
	}
	if s.file == nil {
		return nil
	}
	err := s.writer.Close()
	if err == nil {
		err = s.buffer.Flush()
	}
	if err == nil {
		_, err = s.file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
	}
	r, err := ipc.NewReader(bufio.NewReaderSize(s.file, 1<<20))
	if err != nil {
		return fmt.Errorf("rows that wait cannot be read back: %w", err)
	}
	for r.Next() {
		b := r.RecordBatch()
		b.Retain()
		if err := take(b); err != nil {
			return err
		}
	}
	if err := r.Err(); err != nil {
		return fmt.Errorf("rows that wait cannot be read back: %w", err)
	}
	return nil
}

// close gives up what is kept.
func (s *spool) close() {
	if s.file != nil {
		s.file.Close()
	}
	s.batches, s.file = nil, nil
}

// plain gives columns of dictionaries the values themselves.
func plain(ctx context.Context, b arrow.RecordBatch) (arrow.RecordBatch, error) {
	fields, columns := b.Schema().Fields(), make([]arrow.Array, b.NumCols())
	for i, c := range b.Columns() {
		columns[i] = c
		if d, ok := c.(*array.Dictionary); ok {
			values, err := compute.TakeArray(ctx, d.Dictionary(), d.Indices())
			if err != nil {
				return nil, fmt.Errorf("rows that wait cannot be put on the disk: %w", err)
			}
			columns[i] = values
		}
		fields[i].Type = columns[i].DataType()
	}
	return array.NewRecordBatch(arrow.NewSchema(fields, nil), columns, b.NumRows()), nil
}
