package flow

import (
	"os"
	"path/filepath"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/fault"
)

// destination is where a convert puts its files: a single one or a folder. Both are written under another name beside it
// first.
type destination struct {
	path      string
	format    columnar.Format
	single    bool
	overwrite bool
	staging
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
			return nil, fault.New(fault.Usage, "the file ends in %s, but --format says %s", extension, strings.TrimPrefix(string(c.Format), ".")).Try("leave --format out; that of the source is found by itself")
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
	if !d.single || exists {
		if err := precious(d.path, c.Home); err != nil {
			return nil, err
		}
	}
	if exists && !d.single && info.IsDir() && !d.emptyFolder(info) {
		if err := mayReplace(d.path); err != nil {
			return nil, err
		}
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
	for _, in := range source.Inputs {
		if in.Holder() == "" {
			continue
		}
		path, err := filepath.Abs(in.Holder())
		if err != nil {
			return fault.Wrap(fault.Storage, err, "%s has no absolute path", in.Location)
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
