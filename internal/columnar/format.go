package columnar

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/ipc"

	"trevak/internal/fault"
	"trevak/internal/rowtext"
	"trevak/internal/schema"
)

// Format is a format that rows are written in.
type Format string

// The formats, by the endings of their files.
const (
	Parquet   Format = ".parquet"
	ORC       Format = ".orc"
	Arrow     Format = ".arrow"
	Avro      Format = ".avro"
	JSONLines Format = ".ndjson"
	CSV       Format = ".csv"
	TSV       Format = ".tsv"
)

// formats are all formats, with other endings that they go by.
var formats = map[Format][]string{Parquet: nil, ORC: nil, Arrow: {".feather"}, Avro: nil, JSONLines: {".jsonl"}, CSV: nil, TSV: {".tab"}}

// FormatOf returns the format that a file's ending stands for.
func FormatOf(ending string) (Format, bool) {
	ending = strings.ToLower(ending)
	for f, others := range formats {
		if string(f) == ending || slices.Contains(others, ending) {
			return f, true
		}
	}
	return "", false
}

// Text reports whether files of the format are text, which is not compressed.
func (f Format) Text() bool { return f == JSONLines || f == CSV || f == TSV }

// Endings lists the endings of files that are written.
func Endings() []string {
	return []string{string(Parquet), string(ORC), string(Arrow), string(Avro), string(JSONLines), string(CSV), string(TSV)}
}

// FileWriter writes one file. It is not safe for concurrent use; the caller closes what it writes to.
type FileWriter interface {
	// Write appends rows, whose columns must be those of the schema. After an error nothing more can be written.
	Write(ctx context.Context, batch arrow.RecordBatch) error
	// EndRowGroup writes what is pending; Pending is how many bytes that is in memory, Written how large the file is with it.
	EndRowGroup() error
	Pending() int64
	Written() int64
	// Close ends the file and describes it.
	Close() (*Summary, error)
}

// NewFile begins a file in the format that the options name.
func NewFile(w io.Writer, s schema.Schema, o Options) (FileWriter, error) {
	if o.Counts && o.Format != Parquet && o.Format != "" {
		o.Counts = false
		f, err := NewFile(w, s, o)
		return &countedFile{FileWriter: f, counts: newTally(s)}, err
	}
	if err := o.Format.holds(s); err != nil {
		return nil, err
	}
	switch o.Format {
	case ORC:
		return newORCWriter(w, s, o)
	case Arrow:
		return newArrowWriter(w, s, o.Codec)
	case Avro:
		return newAvroWriter(w, s, o.Codec)
	case JSONLines, CSV, TSV:
		return newTextWriter(w, s, o.Format)
	}
	return NewWriter(w, s, o)
}

// holds refuses columns that a format has no type for.
func (f Format) holds(s schema.Schema) (err error) {
	if f != ORC && f != Avro {
		return nil
	}
	s.Walk(func(path string, field *schema.Field) {
		if k := field.Type.Kind; k == schema.TimestampNs || k == schema.TimestampTzNs {
			err = fault.New(fault.Usage, "column %q is a %s, which is not written to files of the format %s", path, k,
				strings.TrimPrefix(string(f), ".")).Try("write Parquet or Arrow, or state another type")
		}
	})
	return err
}

// textWriter writes rows as text.
type textWriter struct {
	sink   *countingWriter
	format Format
	rows   int64
	buffer []byte
}

func newTextWriter(w io.Writer, s schema.Schema, format Format) (*textWriter, error) {
	t := &textWriter{sink: &countingWriter{w: w}, format: format}
	if format == JSONLines {
		return t, nil
	}
	_, err := t.sink.Write(rowtext.Header(nil, s.Arrow(), t.delimiter()))
	return t, err
}

func (t *textWriter) delimiter() byte {
	if t.format == TSV {
		return '\t'
	}
	return ','
}

func (t *textWriter) Write(_ context.Context, batch arrow.RecordBatch) error {
	t.buffer = t.buffer[:0]
	if t.format == JSONLines {
		t.buffer = rowtext.JSON(t.buffer, batch)
	} else {
		t.buffer = rowtext.Delimited(t.buffer, batch, t.delimiter())
	}
	t.rows += batch.NumRows()
	_, err := t.sink.Write(t.buffer)
	return err
}

func (t *textWriter) EndRowGroup() error { return nil }

func (t *textWriter) Pending() int64 { return 0 }

func (t *textWriter) Written() int64 { return t.sink.n }

func (t *textWriter) Close() (*Summary, error) {
	return &Summary{Rows: t.rows, Bytes: t.sink.n, Columns: map[int]*Metrics{}}, nil
}

// arrowWriter writes Arrow's IPC file format.
type arrowWriter struct {
	sink *countingWriter
	file *ipc.FileWriter
	rows int64
}

func newArrowWriter(w io.Writer, s schema.Schema, codec Codec) (*arrowWriter, error) {
	a := &arrowWriter{sink: &countingWriter{w: w}}
	options := []ipc.Option{ipc.WithSchema(s.Arrow())}
	switch codec.name() {
	case "zstd":
		options = append(options, ipc.WithZstd())
	case "lz4":
		options = append(options, ipc.WithLZ4())
	}
	var err error
	if a.file, err = ipc.NewFileWriter(a.sink, options...); err != nil {
		return nil, fmt.Errorf("the schema has no Arrow form: %w", err)
	}
	return a, nil
}

func (a *arrowWriter) Write(_ context.Context, batch arrow.RecordBatch) error {
	a.rows += batch.NumRows()
	return a.file.Write(batch)
}

func (a *arrowWriter) EndRowGroup() error { return nil }

func (a *arrowWriter) Pending() int64 { return 0 }

func (a *arrowWriter) Written() int64 { return a.sink.n }

func (a *arrowWriter) Close() (*Summary, error) {
	if err := a.file.Close(); err != nil {
		return nil, err
	}
	return &Summary{Rows: a.rows, Bytes: a.sink.n, Columns: map[int]*Metrics{}}, nil
}
