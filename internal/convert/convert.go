// Package convert writes the rows of a source as columnar files, without a table.
//
// What comes in is what a convert is asked to do; what goes out is a file or a folder, which is there as a whole or not at all.
package convert

import (
	"context"
	"io"
	"strings"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/write"
)

// Request is what a convert is asked to do.
type Request struct {
	write.Task
	// To is a file, whose ending says in which format it is written, a folder, or StandardOutput, which Out is then.
	To  string
	Out io.Writer
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
func Convert(ctx context.Context, c Request, b run.Budget) (*write.Report, error) {
	r, err := c.convert(ctx, b)
	return write.Masked(c.Mask, r, err)
}

func (c Request) convert(ctx context.Context, b run.Budget) (*write.Report, error) {
	started := time.Now()
	dest, err := newDestination(ctx, c)
	if err != nil {
		return nil, err
	}
	data, err := infer.Survey(ctx, &c.Reading, b)
	if err != nil {
		return nil, err
	}
	if err := dest.spares(data.Source); err != nil {
		return nil, err
	}
	if err := data.ForeseeRows(ctx, c.Reading, b); err != nil {
		return nil, err
	}
	done, err := write.First(ctx, data, c.Task, b, started, c.To, func(s schema.Schema) (write.Prepared, error) {
		return c.prepare(ctx, dest, s)
	})
	if err != nil {
		return nil, err
	}
	report := done.Report
	err = data.MustGive(report.RecordsRead)
	if err == nil {
		err = dest.publish(ctx, done.Files, b)
	}
	if err != nil {
		dest.discard()
		return nil, err
	}
	report.Table = ""
	if dest.format.Text() {
		report.Codec = dest.format.Packing()
	}
	report.Destination, report.Seconds = c.To, time.Since(started).Seconds()
	return report, nil
}

// prepare makes an output for a schema.
func (c Request) prepare(ctx context.Context, dest *destination, s schema.Schema) (write.Prepared, error) {
	s.AssignIDs()
	spec, options, err := c.Arrange(c.Partition, c.Sort, c.Layout, s)
	if err != nil {
		return write.Prepared{}, err
	}
	if err := writableNames(s, spec, dest.format.Text()); err != nil {
		return write.Prepared{}, err
	}
	if err := dest.begin(ctx); err != nil {
		return write.Prepared{}, err
	}
	out := write.Output{Schema: s, Spec: spec, Options: dest.layout(options), Create: dest.create, Hashes: c.Hashes}
	return write.Prepared{Output: out, Undo: dest.discard}, nil
}

// writableNames refuses names of columns that the files, or the folders of partitions, cannot have. They come of --names keep
// and of --rename.
func writableNames(s schema.Schema, spec layout.Spec, text bool) (err error) {
	if err = write.WithoutControls(s); text {
		err = nil
	}
	for _, t := range spec {
		if strings.ContainsAny(t.Column, "/\\=\"'\x00") && err == nil {
			err = fault.New(fault.Usage, "the rows cannot be partitioned by the column %s: its name stands in the names of folders, "+
				"which cannot have it", fault.Quote(t.Column)).
				Try("give it another name with --rename, or leave --names keep out")
		}
	}
	return err
}
