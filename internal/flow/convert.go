package flow

import (
	"context"
	"strings"
	"time"
	"unicode"

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
	// Overwrite replaces what is there, where a convert wrote it; never Home, the user's home folder.
	Overwrite bool
	Home      string
	// Hashes tells the objects with their hashes.
	Hashes bool
}

// Convert writes the source's rows as columnar files. Nothing is seen at the destination until all of it is there.
func Convert(ctx context.Context, c Conversion, b Budget) (*Report, error) {
	started := time.Now()
	dest, err := newDestination(ctx, c)
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
	_, files, report, err := source.writeFirst(ctx, c.Reading, b, started, c.To, func(s schema.Schema) (prepared, error) {
		s.AssignIDs()
		spec, options, err := c.Reading.arrange(c.Partition, c.Sort, c.Layout, s)
		if err != nil {
			return prepared{}, err
		}
		if err := writableNames(s, spec, dest.format.Text()); err != nil {
			return prepared{}, err
		}
		if err := dest.begin(ctx); err != nil {
			return prepared{}, err
		}
		return prepared{output{schema: s, spec: spec, options: dest.layout(options), create: dest.create, hashes: c.Hashes}, dest.discard}, nil
	})
	if err != nil {
		return nil, err
	}
	if err := source.mustGive(report.RecordsRead); err != nil {
		dest.discard()
		return nil, err
	}
	if err := dest.publish(ctx, files); err != nil {
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

// writableNames refuses names of columns that the files, or the folders of partitions, cannot have. They come of --names keep and of --rename.
func writableNames(s schema.Schema, spec layout.Spec, text bool) (err error) {
	if err = withoutControls(s); text {
		err = nil
	}
	for _, t := range spec {
		if strings.ContainsAny(t.Column, "/\\=\"'\x00") && err == nil {
			err = fault.New(fault.Usage, "the rows cannot be partitioned by the column %s: its name stands in the names of folders, which cannot have it", fault.Quote(t.Column)).
				Try("give it another name with --rename, or leave --names keep out")
		}
	}
	return err
}

// withoutControls refuses names of columns with characters that cannot be seen.
func withoutControls(s schema.Schema) (err error) {
	s.Walk(func(path string, f *schema.Field) {
		if strings.ContainsFunc(f.Name, unicode.IsControl) && err == nil {
			err = fault.New(fault.Usage, "the name of the column %s holds a control character, which tables and columnar files are not to have", fault.Quote(path)).
				Try("give it another name with --rename, or leave --names keep out")
		}
	})
	return err
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
