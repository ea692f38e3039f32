package columnar

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/file"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"

	"trevak/internal/schema"
)

// Trial is what rows cost in one form.
type Trial struct {
	// Encoding is the one that was forced, empty for the writer's own choice.
	Encoding string
	Codec    Codec
	// Bytes is the size of the file, WriteSeconds and ReadSeconds what writing it to memory and reading it back took.
	Bytes        int64
	WriteSeconds float64
	ReadSeconds  float64
}

// forced are the encodings that can be forced on a column, by the name the Parquet specification gives them.
var forced = map[string]parquet.Encoding{"plain": parquet.Encodings.Plain, "rle-dictionary": parquet.Encodings.RLEDict,
	"delta-binary-packed": parquet.Encodings.DeltaBinaryPacked,
	"byte-stream-split":   parquet.Encodings.ByteStreamSplit, "delta-length-byte-array": parquet.Encodings.DeltaLengthByteArray,
	"delta-byte-array": parquet.Encodings.DeltaByteArray}

// EncodingsOf lists the encodings that a column of a type can be written in, besides the writer's own choice.
func EncodingsOf(t schema.Type) []string {
	switch t.Kind {
	case schema.Int, schema.Long, schema.Date, schema.Time, schema.Timestamp, schema.TimestampTz:
		return []string{"plain", "rle-dictionary", "delta-binary-packed"}
	case schema.Float, schema.Double:
		return []string{"plain", "rle-dictionary", "byte-stream-split"}
	case schema.String, schema.Binary:
		return []string{"plain", "rle-dictionary", "delta-length-byte-array", "delta-byte-array"}
	}
	return nil
}

// trialSeconds is the time from which a trial is not done again.
const trialSeconds = 0.02

// Try writes batches to memory in a format, and reads them back. encoding is forced on every column of Parquet where it is not
// empty. The batches are of the schema, whose fields have ids. A trial that takes little time is done up to so many times; the
// quickest counts, since everything else that the machine does only makes it slower.
func Try(ctx context.Context, s schema.Schema, batches []arrow.RecordBatch, format Format, codec Codec, encoding string,
	times int) (Trial, error) {
	best, err := tryOnce(ctx, s, batches, format, codec, encoding)
	total := best.Seconds()
	for n := 1; n < times && total < trialSeconds && err == nil; n++ {
		var again Trial
		again, err = tryOnce(ctx, s, batches, format, codec, encoding)
		total += again.Seconds()
		best = best.Again(again)
	}
	return best, err
}

// Again is a trial that was done once more: the quicker times count.
func (t Trial) Again(again Trial) Trial {
	t.WriteSeconds, t.ReadSeconds = min(t.WriteSeconds, again.WriteSeconds), min(t.ReadSeconds, again.ReadSeconds)
	return t
}

// Seconds is what writing and reading took.
func (t Trial) Seconds() float64 { return t.WriteSeconds + t.ReadSeconds }

func tryOnce(ctx context.Context, s schema.Schema, batches []arrow.RecordBatch, format Format, codec Codec, encoding string) (Trial,
	error) {
	t := Trial{Encoding: encoding, Codec: codec}
	o := DefaultOptions
	o.Format, o.Codec, o.force = format, codec, encoding
	var out bytes.Buffer
	started := time.Now()
	w, err := NewFile(&out, s, o)
	if err != nil {
		return t, err
	}
	for _, b := range batches {
		if err := w.Write(ctx, b); err != nil {
			return t, err
		}
	}
	if _, err := w.Close(); err != nil {
		return t, err
	}
	t.WriteSeconds, t.Bytes = time.Since(started).Seconds(), int64(out.Len())
	started = time.Now()
	if err := readAll(ctx, out.Bytes()); err != nil {
		return t, fmt.Errorf("reading back what was written: %w", err)
	}
	t.ReadSeconds = time.Since(started).Seconds()
	return t, nil
}

// readAll reads every row of a file in memory.
func readAll(ctx context.Context, data []byte) error {
	other, err := openOther(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	if other != nil {
		return other.batches(ctx, func(arrow.RecordBatch) error { return nil })
	}
	r, err := file.NewParquetReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	defer r.Close()
	reader, err := pqarrow.NewFileReader(r, pqarrow.ArrowReadProperties{BatchSize: rowsAtATime(r.MetaData().Schema.NumColumns())},
		memory.DefaultAllocator)
	if err != nil {
		return err
	}
	records, err := reader.GetRecordReader(ctx, nil, nil)
	if err != nil {
		return err
	}
	defer records.Release()
	for records.Next() {
	}
	return records.Err()
}

// Ranges tells of one column of a Parquet file in memory, row group by row group: the smallest and the largest value in plain
// encoding, nil where there is none, and how many bytes the row group has.
type Ranges struct {
	column  int
	low     [][]byte
	high    [][]byte
	Bytes   []int64
	compare func(a, b []byte) bool
}

// RangesOf reads the statistics of a column by its legal path.
func RangesOf(data []byte, s schema.Schema, path string) (*Ranges, error) {
	r, err := file.NewParquetReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out := &Ranges{column: -1}
	for i, leaf := range leafPaths(s) {
		if leaf == path {
			out.column = i
		}
	}
	if out.column < 0 {
		return nil, fmt.Errorf("there is no column %q", path)
	}
	column := r.MetaData().Schema.Column(out.column)
	out.compare = func(a, b []byte) bool { return less(column, a, b) }
	for g := range r.NumRowGroups() {
		group := r.MetaData().RowGroup(g)
		chunk, err := group.ColumnChunk(out.column)
		if err != nil {
			return nil, err
		}
		var low, high []byte
		if stats, err := chunk.Statistics(); err == nil && stats != nil && stats.HasMinMax() {
			low, high = bytes.Clone(stats.EncodeMin()), bytes.Clone(stats.EncodeMax())
		}
		out.low, out.high = append(out.low, low), append(out.high, high)
		var size int64
		for c := range group.NumColumns() {
			chunk, err := group.ColumnChunk(c)
			if err != nil {
				return nil, err
			}
			size += chunk.TotalCompressedSize()
		}
		out.Bytes = append(out.Bytes, size)
	}
	return out, nil
}

// Middle returns a value that occurs: the smallest of the row group in the middle, nil where no row group has any.
func (r *Ranges) Middle() []byte {
	for i := range r.low {
		if v := r.low[(len(r.low)/2+i)%len(r.low)]; v != nil {
			return v
		}
	}
	return nil
}

// Scanned returns how many bytes the row groups have that may hold a value.
func (r *Ranges) Scanned(value []byte) int64 {
	var n int64
	for i := range r.low {
		if r.low[i] != nil && !r.compare(value, r.low[i]) && !r.compare(r.high[i], value) {
			n += r.Bytes[i]
		}
	}
	return n
}
