package weigh

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/layout"
	"trevak/internal/storage"
)

// groupsTried is how many row groups a sample has in a trial of layouts, so that filters have something to leave out.
const groupsTried = 20

// layouts tries sort orders and partitionings on the sample.
func (w *Weighing) layouts(ctx context.Context, rows *sampleRows, sorts, partitions []string) error {
	if len(sorts)+len(partitions) == 0 {
		return nil
	}
	plain, err := tryLayout(ctx, rows, "", "")
	if err != nil {
		return err
	}
	w.Layouts = append(w.Layouts, WeighedLayout{Flag: "as it comes", Files: len(plain.files), Bytes: plain.bytes()})
	for _, s := range sorts {
		l, err := tryLayout(ctx, rows, s, "")
		if err != nil {
			return err
		}
		weighed, err := l.sorted(rows, plain)
		if err != nil {
			return err
		}
		weighed.Flag = "--sort '" + s + "'"
		w.Layouts = append(w.Layouts, weighed)
	}
	for _, p := range partitions {
		l, err := tryLayout(ctx, rows, "", p)
		if err != nil {
			return err
		}
		weighed := l.partitioned(plain)
		weighed.Flag = "--partition '" + p + "'"
		w.Layouts = append(w.Layouts, weighed)
	}
	return nil
}

// tried is the sample as one layout makes it, in memory.
type tried struct {
	files      []layout.DataFile
	data       map[string]*bytes.Buffer
	partitions int
	order      layout.Sort
}

func (t *tried) bytes() int64 {
	var n int64
	for _, f := range t.files {
		n += f.Summary.Bytes
	}
	return n
}

// inMemory is a file in memory.
type inMemory struct{ *bytes.Buffer }

func (inMemory) Commit() error { return nil }

func (inMemory) Abort() error { return nil }

func tryLayout(ctx context.Context, rows *sampleRows, sort, partition string) (*tried, error) {
	out := &tried{data: map[string]*bytes.Buffer{}}
	o := layout.DefaultOptions
	o.Columnar.RowGroupRows = max(1000, rows.rows/groupsTried)
	var spec layout.Spec
	var err error
	if partition != "" {
		if spec, err = layout.ParseSpec(partition, rows.schema); err != nil {
			return nil, err
		}
	}
	if o.Sort, err = layout.ParseSort(sort, rows.schema); err != nil {
		return nil, err
	}
	out.order = o.Sort
	router := layout.NewRouter(rows.schema, spec, o, func(_ context.Context, folder string) (func() (storage.Writer, error), string, error) {
		path, data := fmt.Sprintf("%s/%d", folder, len(out.data)), &bytes.Buffer{}
		out.data[path] = data
		return func() (storage.Writer, error) { return inMemory{data}, nil }, path, nil
	})
	defer router.Abandon()
	for _, b := range rows.batches {
		if err := router.Write(ctx, b); err != nil {
			return nil, err
		}
	}
	out.files, err = router.Close(ctx)
	out.partitions = router.Partitions()
	return out, err
}

// sorted measures what a filter for one value of the first sort column reads, sorted and as the rows come.
func (t *tried) sorted(rows *sampleRows, plain *tried) (WeighedLayout, error) {
	out := WeighedLayout{Files: len(t.files), Bytes: t.bytes()}
	column := t.order[0].Column
	here, err := columnar.RangesOf(t.data[t.files[0].URI].Bytes(), rows.schema, column)
	if err != nil {
		return out, err
	}
	there, err := columnar.RangesOf(plain.data[plain.files[0].URI].Bytes(), rows.schema, column)
	if err != nil {
		return out, err
	}
	value := here.Middle()
	if value == nil {
		return out, nil
	}
	out.Filter, out.ScannedBytes, out.UnlaidBytes = "one value of "+column, here.Scanned(value), there.Scanned(value)
	return out, nil
}

// partitioned measures what a filter for one partition reads; as the rows come it is everything.
func (t *tried) partitioned(plain *tried) WeighedLayout {
	out := WeighedLayout{Files: len(t.files), Partitions: t.partitions, Bytes: t.bytes(), UnlaidBytes: plain.bytes()}
	first, _, _ := strings.Cut(t.files[len(t.files)/2].Folder, "/")
	for _, f := range t.files {
		if folder, _, _ := strings.Cut(f.Folder, "/"); folder == first {
			out.ScannedBytes += f.Summary.Bytes
		}
	}
	out.Filter = first
	return out
}
