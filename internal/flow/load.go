package flow

import (
	"context"
	"time"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// Loading is what a load is asked to do.
type Loading struct {
	Reading
	Warehouse *table.Warehouse
	Into      table.Name
	// Partition is the partition fields of a new table.
	Partition string
	Layout    layout.Options
}

// Load writes the source's rows into a table, in one commit.
func Load(ctx context.Context, l Loading, b Budget) (*Report, error) {
	started := time.Now()
	source, err := Survey(ctx, l.Reading)
	if err != nil {
		return nil, err
	}
	if err := source.convertible(); err != nil {
		return nil, err
	}
	existing, err := l.Warehouse.Load(ctx, l.Into)
	if err != nil {
		return nil, err
	}
	var load *table.Append
	var files []layout.DataFile
	var report *Report
	if existing == nil {
		load, files, report, err = l.first(ctx, source, b, started)
	} else {
		load, files, report, err = l.further(ctx, source, existing, b, started)
	}
	if err != nil {
		return nil, err
	}
	if b.Events != nil {
		b.Events(Event{Stage: "committing", Objects: len(source.Inputs), Object: len(source.Inputs), BytesRead: source.Bytes, BytesTotal: source.Bytes})
	}
	snapshot, err := load.Commit(ctx, files)
	if err != nil {
		load.Rollback()
		return nil, err
	}
	report.Table, report.SnapshotID, report.Created = l.Into.String(), snapshot.ID, load.Creates
	report.Seconds = time.Since(started).Seconds()
	return report, nil
}

// first writes the files of a table that does not exist yet.
func (l Loading) first(ctx context.Context, source *Source, b Budget, started time.Time) (*table.Append, []layout.DataFile, *Report, error) {
	var load *table.Append
	_, files, report, err := source.writeFirst(ctx, l.Reading, b, started, l.Into.String(), func(s schema.Schema) (output, func(), error) {
		describeOrigins(s)
		spec, err := parseSpec(l.Partition, s)
		if err != nil {
			return output{}, nil, err
		}
		if load, err = l.Warehouse.Create(l.Into, s, spec); err != nil {
			return output{}, nil, err
		}
		return output{schema: load.Schema, spec: load.Spec, options: l.Layout, create: load.CreateFile}, load.Rollback, nil
	})
	return load, files, report, err
}

// describeOrigins keeps the name a column had in the source in its comment.
func describeOrigins(s schema.Schema) {
	s.Walk(func(_ string, f *schema.Field) {
		if f.Origin != "" {
			f.Doc = "named " + fault.Quote(f.Origin) + " in the source"
		}
	})
}

// further writes files for a table that exists, under its schema.
func (l Loading) further(ctx context.Context, source *Source, t *table.Table, b Budget, started time.Time) (*table.Append, []layout.DataFile, *Report, error) {
	if l.Partition != "" {
		spec, err := layout.ParseSpec(l.Partition, t.Schema)
		if err != nil {
			return nil, nil, nil, err
		}
		if spec.String() != t.Spec.String() {
			return nil, nil, nil, fault.New(fault.Usage, "the table %s is partitioned by %s, not by %s", t.Name, orNothing(t.Spec), spec).
				Try("leave --partition out; a table keeps its partitioning")
		}
	}
	load := l.Warehouse.Append(t)
	load.Schema = load.Schema.Clone()
	if err := pinTable(&load.Schema, l.Types); err != nil {
		return nil, nil, nil, err
	}
	out := output{schema: load.Schema, spec: load.Spec, options: l.Layout, create: load.CreateFile, fixed: true}
	var err error
	if out.extras, err = source.extras(l.Reading); err != nil {
		return nil, nil, nil, err
	}
	if l.Stated.Pad && t.Schema.Index(misfitColumn) >= 0 {
		out.extras = append(out.extras, misfitExtra)
	}
	files, report, err := source.attempt(ctx, l.Reading, b, out, started, l.Into.String())
	if err != nil {
		load.Rollback()
		return nil, nil, nil, err
	}
	return load, files, report, nil
}

func orNothing(s layout.Spec) string {
	if len(s) == 0 {
		return "nothing"
	}
	return s.String()
}

// pinTable marks the columns of a table whose type the user states again, so that every spelling of it is taken.
func pinTable(s *schema.Schema, types map[string]schema.Type) error {
	for name, t := range types {
		f, err := layout.Column(*s, name)
		if err != nil {
			return err
		}
		if f.Type.Kind != t.Kind {
			return fault.New(fault.Schema, "column %q of the table is a %s, not a %s", f.Name, f.Type, t).
				Try("leave --type out for it; the table keeps its types")
		}
		f.Pinned = true
	}
	return nil
}
