package columnar

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"trevak/internal/fault"
	"trevak/internal/schema"
)

// Format is a format that rows are written in. That of packed text has the ending of the packing as well, as in .csv.gz.
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
	// ArrowStream is Arrow's form for what is read as it comes (Arrow, "IPC Streaming Format").
	ArrowStream Format = ".arrows"
)

// formats are all formats of files, with other endings that they go by.
var formats = map[Format][]string{Parquet: nil, ORC: nil, Arrow: {".feather"}, Avro: nil, JSONLines: {".jsonl"}, CSV: nil, TSV: {".tab"}}

// FormatOf returns the format that the ending of a file's name stands for.
func FormatOf(name string) (Format, bool) {
	packing := Format(strings.ToLower(path.Ext(name)))
	if packers[packing] == nil {
		packing = ""
	}
	ending := strings.ToLower(path.Ext(name[:len(name)-len(packing)]))
	for f, others := range formats {
		if string(f) == ending || slices.Contains(others, ending) {
			return f + packing, packing == "" || f.Text()
		}
	}
	return "", false
}

// Text reports whether files of the format are text, packed or not.
func (f Format) Text() bool { return f.base() == JSONLines || f.base() == CSV || f.base() == TSV }

// Packing names what packs text of the format, none where nothing does.
func (f Format) Packing() string {
	return map[Format]string{"": "none", ".gz": "gzip", ".zst": "zstd", ".lz4": "lz4", ".xz": "xz"}[f[len(f.base()):]]
}

// base is the format without its packing.
func (f Format) base() Format {
	if packing := Format(path.Ext(string(f))); packers[packing] != nil {
		return f[:len(f)-len(packing)]
	}
	return f
}

// Endings lists the endings of files that are written. Those of text may have one of Packings behind them.
func Endings() []string {
	return []string{string(Parquet), string(ORC), string(Arrow), string(Avro), string(JSONLines), string(CSV), string(TSV)}
}

// Packings lists the endings of packed text.
func Packings() []string { return []string{".gz", ".zst", ".lz4", ".xz"} }

// packers begin a packed stream, by the ending of its file.
var packers = map[Format]func(w io.Writer) (io.WriteCloser, error){
	".gz":  func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
	".zst": func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1)) },
	".lz4": func(w io.Writer) (io.WriteCloser, error) { return lz4.NewWriter(w), nil },
	".xz":  func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) },
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
	switch o.Format.base() {
	case ORC:
		return newORCWriter(w, s, o)
	case Arrow, ArrowStream:
		return newArrowWriter(w, s, o.Format, o.Codec)
	case Avro:
		return newAvroWriter(w, s, o.Codec)
	case JSONLines, CSV, TSV:
		return newTextWriter(w, s, o)
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

// arrowWriter writes Arrow's IPC file format, or that of streams.
type arrowWriter struct {
	sink *countingWriter
	file interface {
		Write(batch arrow.RecordBatch) error
		Close() error
	}
	rows int64
}

func newArrowWriter(w io.Writer, s schema.Schema, format Format, codec Codec) (*arrowWriter, error) {
	a := &arrowWriter{sink: &countingWriter{w: w}}
	options := []ipc.Option{ipc.WithSchema(s.Arrow())}
	switch codec.name() {
	case "zstd":
		options = append(options, ipc.WithZstd())
	case "lz4":
		options = append(options, ipc.WithLZ4())
	}
	if format == ArrowStream {
		a.file = ipc.NewWriter(a.sink, options...)
		return a, nil
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
