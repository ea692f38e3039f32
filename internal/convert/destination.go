package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/wording"
)

// destination is where a convert puts its files: a single one or a folder. Both are written under another name beside it
// first.
type destination struct {
	store     storage.Store
	uri       string
	format    columnar.Format
	single    bool
	overwrite bool
	out       io.Writer     // takes a single file in the place of what lies at uri
	stage     storage.Stage // nil until something is to be written
	files     int
}

// newDestination checks that the destination can be written.
func newDestination(ctx context.Context, c Request) (*destination, error) {
	d := &destination{store: c.Store, uri: storage.Clean(c.To), format: c.Format, overwrite: c.Overwrite}
	if c.To == StandardOutput {
		return d, d.outward(c)
	}
	format, known := columnar.FormatOf(c.To)
	extension := strings.ToLower(path.Ext(c.To))
	there, err := d.store.Stat(ctx, d.uri)
	exists, folder := err == nil, there.Kind == storage.Folder
	switch {
	case c.To == "":
		return nil, fault.New(fault.Usage, "--to is missing").Try("name a file ending in %s, or a folder ending in /", endings())
	case strings.HasSuffix(c.To, "/") || exists && folder || extension == "":
	case known:
		d.single = true
		if c.Format != "" && c.Format != format {
			return nil, fault.New(fault.Usage, "the file ends in %s, but --format says %s", extension,
				strings.TrimPrefix(string(c.Format), ".")).Try("leave --format out; that of the source is found by itself")
		}
		d.format = format
	default:
		e := fault.New(fault.Usage, "files ending in %s are not written", extension)
		if near := wording.Nearest(extension, columnar.Endings()); len(near) > 0 {
			return nil, e.Try("the nearest ending is %s; name a file ending in %s, or a folder ending in /", near[0], endings())
		}
		return nil, e.Try("name a file ending in %s, or a folder ending in /", endings())
	}
	if d.format == "" {
		d.format = columnar.Parquet
	}
	if err := c.Layout.Columnar.Suits(d.format); err != nil {
		return nil, err
	}
	if d.single && c.PartitionWith(c.Partition) != "" {
		return nil, fault.New(fault.Usage, "a single file has no partitions").Try("name a folder: --to %s/",
			strings.TrimSuffix(c.To, extension))
	}
	if exists && !c.Overwrite && !d.emptyFolder(ctx) {
		return nil, fault.New(fault.Usage, "%s exists already", c.To).Try("choose another name, or replace it with --overwrite")
	}
	if !d.single || exists {
		if err := precious(ctx, d.store, d.uri, c.Home); err != nil {
			return nil, err
		}
	}
	if exists && !d.single && folder && !d.emptyFolder(ctx) {
		if err := mayReplace(ctx, d.store, d.uri); err != nil {
			return nil, err
		}
	}
	if exists && d.single == folder {
		return nil, fault.New(fault.Usage, "%s is there, but is no folder", c.To).Try("choose another name")
	}
	return d, nil
}

func endings() string {
	return strings.Join(columnar.Endings(), ", ") + " (of text also packed, like .csv" + columnar.Packings()[0] + ")"
}

// StandardOutput is the destination that stands for it.
const StandardOutput = "-"

// outward has what is written sent to standard output, once it is whole.
func (d *destination) outward(c Request) error {
	d.single, d.out = true, c.Out
	switch {
	case c.Format == "":
		d.format = columnar.JSONLines
	case c.Format == columnar.Arrow:
		d.format = columnar.ArrowStream
	case !c.Format.Text():
		return fault.New(fault.Usage, "files of the format %s do not go to standard output: their beginnings are written last",
			strings.TrimPrefix(string(c.Format), ".")).Try("use --format ndjson, csv, tsv or arrow, which is a stream there, or name a file")
	}
	if c.PartitionWith(c.Partition) != "" {
		return fault.New(fault.Usage, "standard output has no partitions").Try("name a folder: --to DEST/")
	}
	return c.Layout.Columnar.Suits(d.format)
}

// spares refuses a destination that would be put in the place of the source, or of a folder that holds it.
func (d *destination) spares(source *source.Source) error {
	if d.out != nil {
		return nil
	}
	place, err := d.store.Canonical(d.uri)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "%s has no canonical form", d.uri)
	}
	for _, in := range source.Inputs {
		if in.Holder() == "" {
			continue
		}
		uri, err := d.store.Canonical(in.Holder())
		if err != nil {
			return fault.Wrap(fault.Storage, err, "%s has no canonical form", in.Location)
		}
		if _, inside := storage.Rel(place, uri); inside {
			return fault.New(fault.Usage, "the source %s lies in the destination %s, which would be replaced", in.Location,
				d.uri).Try("choose another destination")
		}
	}
	return nil
}

func (d *destination) emptyFolder(ctx context.Context) bool {
	o, err := d.store.Stat(ctx, d.uri)
	if err != nil || o.Kind != storage.Folder {
		return false
	}
	entries, err := d.store.List(ctx, d.uri)
	return err == nil && len(entries) == 0
}

// begin prepares for the files of an attempt.
func (d *destination) begin(ctx context.Context) (err error) {
	d.files = 0
	if d.out != nil {
		d.stage = storage.NewOutStage(d.out)
		return nil
	}
	d.stage, err = storage.NewStage(ctx, d.store, d.uri)
	return fault.Wrap(fault.Storage, err, "nothing can be written to %s", d.uri)
}

// layout adapts the options: a single file is never split, and is there even without rows.
func (d *destination) layout(o layout.Options) layout.Options {
	o.Columnar.Format = d.format
	if d.single {
		o.FileBytes, o.EvenEmpty = math.MaxInt64, true
	}
	return o
}

// create is the layout.Create of a convert.
func (d *destination) create(ctx context.Context, folder string) (begin func() (storage.Writer, error), uri string, err error) {
	d.files++
	name := ""
	uri = d.uri
	if !d.single {
		name = path.Join(folder, fmt.Sprintf("%05d%s", d.files, d.format))
		uri = storage.Join(d.uri, name)
	}
	return func() (storage.Writer, error) {
		w, err := d.stage.Create(ctx, name)
		if err != nil {
			return nil, fault.Wrap(fault.Storage, err, "a data file cannot be made")
		}
		return layout.Buffered(w), nil
	}, uri, nil
}

// publish puts the files in the place of what is at the destination.
func (d *destination) publish(ctx context.Context, files []layout.DataFile, b run.Budget) error {
	if !d.single {
		if err := d.list(ctx, files); err != nil {
			return fault.Wrap(fault.Storage, err, "the finished files cannot be listed")
		}
	}
	err := d.stage.Publish(ctx, func() error { return d.free(ctx) })
	if d.out != nil {
		return fault.Wrap(fault.Storage, err, "the rows cannot be written to standard output")
	}
	if errors.Is(err, storage.ErrLeft) {
		b.Warned(fmt.Sprintf("%s is written; %s", d.uri, err))
		return nil
	}
	return fault.Wrap(fault.Storage, err, "the finished files cannot be moved to %s", d.uri)
}

// free makes sure once more that the destination can be replaced: it was looked at when the run began.
func (d *destination) free(ctx context.Context) error {
	if d.out != nil || !storage.Exists(ctx, d.store, d.uri) || d.emptyFolder(ctx) {
		return nil
	}
	if !d.overwrite {
		return fault.New(fault.Storage, "something came to be at %s meanwhile",
			d.uri).Try("choose another name, or replace it with --overwrite")
	}
	if d.single {
		return nil
	}
	return mayReplace(ctx, d.store, d.uri)
}

// discard gives up what was written.
func (d *destination) discard() {
	if d.stage != nil {
		// What is left of it is removed by the next run.
		_ = d.stage.Discard(context.Background())
	}
}
