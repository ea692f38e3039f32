package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
)

// Conversion is what a convert is asked to do.
type Conversion struct {
	Reading
	// To is a file, whose ending says in which format it is written, or a folder.
	To string
	// Format is that of the files in a folder.
	Format columnar.Format
	// Partition is the partition fields, for a folder.
	Partition string
	// Sort is the order of the rows in each file.
	Sort   string
	Layout layout.Options
	// Overwrite replaces what is there.
	Overwrite bool
	// Hashes tells the objects with their hashes.
	Hashes bool
}

// Convert writes the source's rows as columnar files. Nothing is seen at the destination until all of it is there.
func Convert(ctx context.Context, c Conversion, b Budget) (*Report, error) {
	started := time.Now()
	dest, err := newDestination(c)
	if err != nil {
		return nil, err
	}
	source, err := survey(ctx, &c.Reading, b)
	if err != nil {
		return nil, err
	}
	if err := dest.spares(source); err != nil {
		return nil, err
	}
	if err := source.foreseeRows(ctx, c.Reading, b); err != nil {
		return nil, err
	}
	_, _, report, err := source.writeFirst(ctx, c.Reading, b, started, c.To, func(s schema.Schema) (prepared, error) {
		s.AssignIDs()
		spec, options, err := c.Reading.arrange(c.Partition, c.Sort, c.Layout, s)
		if err != nil {
			return prepared{}, err
		}
		if err := dest.begin(); err != nil {
			return prepared{}, err
		}
		return prepared{output{schema: s, spec: spec, options: dest.layout(options), create: dest.create, hashes: c.Hashes}, dest.discard}, nil
	})
	if err != nil {
		return nil, err
	}
	if err := dest.publish(); err != nil {
		dest.discard()
		return nil, err
	}
	report.Table = ""
	if dest.format.Text() {
		report.Codec = "none"
	}
	report.Destination, report.Seconds = c.To, time.Since(started).Seconds()
	return report, nil
}

// arrange reads how rows are partitioned and sorted.
func (r Reading) arrange(partition, sort string, o layout.Options, s schema.Schema) (spec layout.Spec, out layout.Options, err error) {
	if partition = r.partitionWith(partition); partition != "" {
		if spec, err = layout.ParseSpec(partition, s); err != nil {
			return nil, o, err
		}
	}
	if o.Sort, err = layout.ParseSort(sort, s); err != nil {
		return nil, o, err
	}
	o.Columnar, err = o.Columnar.For(s)
	return spec, o, err
}

// destination is where a convert puts its files: a single one or a folder. Both are written under another name beside it
// first.
type destination struct {
	path      string
	format    columnar.Format
	single    bool
	overwrite bool
	staging   string
	files     int
}

// newDestination checks that the destination can be written.
func newDestination(c Conversion) (*destination, error) {
	d := &destination{path: filepath.Clean(c.To), format: c.Format, overwrite: c.Overwrite}
	format, known := columnar.FormatOf(filepath.Ext(c.To))
	extension := strings.ToLower(filepath.Ext(c.To))
	info, err := os.Stat(d.path)
	exists := err == nil
	switch {
	case c.To == "":
		return nil, fault.New(fault.Usage, "--to is missing").Try("name a file ending in %s, or a folder ending in /", endings())
	case strings.HasSuffix(c.To, "/") || exists && info.IsDir() || extension == "":
	case known:
		d.single = true
		if c.Format != "" && c.Format != format {
			return nil, fault.New(fault.Usage, "the file ends in %s, but --format says %s", extension, strings.TrimPrefix(string(c.Format), ".")).Try("leave --format out")
		}
		d.format = format
	default:
		return nil, fault.New(fault.Usage, "files ending in %s are not written", extension).Try("name a file ending in %s, or a folder ending in /", endings())
	}
	if d.format == "" {
		d.format = columnar.Parquet
	}
	if err := c.Layout.Columnar.Suits(d.format); err != nil {
		return nil, err
	}
	if d.single && c.partitionWith(c.Partition) != "" {
		return nil, fault.New(fault.Usage, "a single file has no partitions").Try("name a folder: --to %s/", strings.TrimSuffix(c.To, extension))
	}
	if exists && !c.Overwrite && !d.emptyFolder(info) {
		return nil, fault.New(fault.Usage, "%s exists already", c.To).Try("choose another name, or replace it with --overwrite")
	}
	if exists && d.single == info.IsDir() {
		return nil, fault.New(fault.Usage, "%s is there, but is no folder", c.To).Try("choose another name")
	}
	return d, nil
}

func endings() string { return strings.Join(columnar.Endings(), ", ") }

// spares refuses a destination that would be put in the place of the source, or of a folder that holds it.
func (d *destination) spares(source *Source) error {
	place, err := filepath.Abs(d.path)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "%s has no absolute path", d.path)
	}
	if here, err := filepath.Abs("."); err == nil && within(place, here) {
		return fault.New(fault.Usage, "the destination %s holds the working folder, which would be replaced", d.path).Try("name a folder of its own")
	}
	for _, in := range source.Inputs {
		location, _, _ := strings.Cut(in.Location, "!")
		path, err := filepath.Abs(location)
		if err != nil {
			return fault.Wrap(fault.Storage, err, "%s has no absolute path", location)
		}
		if within(place, path) {
			return fault.New(fault.Usage, "the source %s lies in the destination %s, which would be replaced", in.Location, d.path).Try("choose another destination")
		}
	}
	return nil
}

// within reports whether an absolute path is another or lies below it.
func within(place, path string) bool {
	rel, err := filepath.Rel(place, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

func (d *destination) emptyFolder(info os.FileInfo) bool {
	if !info.IsDir() {
		return false
	}
	entries, err := os.ReadDir(d.path)
	return err == nil && len(entries) == 0
}

// begin makes a fresh staging place.
func (d *destination) begin() error {
	d.files = 0
	parent := filepath.Dir(d.path)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return fault.Wrap(fault.Storage, err, "the folder %s cannot be made", parent)
	}
	staging, err := os.MkdirTemp(parent, "."+filepath.Base(d.path)+".partial-")
	if err != nil {
		return fault.Wrap(fault.Storage, err, "nothing can be written beside %s", d.path)
	}
	d.staging = staging
	return os.Chmod(staging, 0o755)
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
func (d *destination) create(folder string) (io.WriteCloser, string, error) {
	d.files++
	dir := filepath.Join(d.staging, filepath.FromSlash(folder))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "the folder of a data file cannot be made")
	}
	path := filepath.Join(dir, fmt.Sprintf("%05d%s", d.files, d.format))
	file, err := os.Create(path)
	if err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "a data file cannot be made")
	}
	return layout.Behind(file), path, nil
}

// publish moves what was staged to the destination.
func (d *destination) publish() error {
	if d.single {
		return d.move(filepath.Join(d.staging, "00001"+string(d.format)))
	}
	if !d.overwrite {
		// An empty folder makes way; one that something was put into meanwhile does not.
		if err := os.Remove(d.path); err != nil && !os.IsNotExist(err) {
			return fault.Wrap(fault.Storage, err, "%s cannot be replaced", d.path)
		}
	}
	old := d.staging + ".old"
	err := os.Rename(d.path, old)
	if err != nil && !os.IsNotExist(err) {
		return fault.Wrap(fault.Storage, err, "%s cannot be replaced", d.path)
	}
	replaces := err == nil
	if err := d.move(d.staging); err != nil {
		if replaces {
			err = errors.Join(err, os.Rename(old, d.path))
		}
		return err
	}
	if replaces {
		os.RemoveAll(old)
	}
	return nil
}

// move gives what was staged its name, and removes what is left of the staging place.
func (d *destination) move(from string) error {
	if err := os.Rename(from, d.path); err != nil {
		return fault.Wrap(fault.Storage, err, "the finished files cannot be moved to %s", d.path)
	}
	d.discard()
	return nil
}

// discard removes what was staged.
func (d *destination) discard() {
	if d.staging != "" {
		os.RemoveAll(d.staging)
	}
}
