package inspect

import (
	"context"
	"errors"
	"slices"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/schema"
	"trevak/internal/sniff"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// TableInfo is what is known of a table.
type TableInfo struct {
	Name          string
	Location      string
	FormatVersion int
	Partitioning  string
	Sort          string
	Rows          int64
	Files         int
	// Formats are those of the data files: parquet, orc, avro.
	Formats []string
	// Bytes is the size of the data files, RawBytes that of their pages before compression.
	Bytes    int64
	RawBytes int64
	// FilesExamined is how many files the columns' sizes and encodings were read from; it is Files unless there are very many.
	FilesExamined int
	Columns       []ColumnInfo
	Snapshots     []SnapshotInfo
	LastCommit    *time.Time
	// Deletes says that some rows of the data files are deleted by files of their own, and Open that Rows counts them all the same, since
	// it cannot be told how many these are.
	Deletes, Open bool
	// State is the state that was asked for, of one that is not the table's own; Branch is its branch, if it is the newest of one.
	State  *SnapshotInfo
	Branch string
	// Error is why the table cannot be read, in a list; nothing but its name is known then.
	Error error
}

// ColumnInfo is one column or part of one.
type ColumnInfo struct {
	ID       int
	Path     string
	Depth    int
	Name     string
	Type     string
	Required bool
	Origin   string
	// Longest is the length of the longest text, in characters.
	Longest int
	column
}

// column is what the files tell of a leaf column.
type column struct {
	Bytes     int64
	RawBytes  int64
	Codecs    []string
	Encodings []string
}

// SnapshotInfo is one state of a table.
type SnapshotInfo struct {
	ID         int64
	Committed  time.Time
	Operation  string
	AddedRows  int64
	AddedFiles int64
	// Rows are those that the table had then, unless files of deletes leave that open.
	Rows int64
	Open bool
}

// mostFooters bounds how many files are opened to describe a table.
const mostFooters = 500

// DescribeTable gathers what the metadata and the footers of the data files tell.
func DescribeTable(ctx context.Context, t *table.Table) (*TableInfo, error) {
	info, files, err := summarizeTable(ctx, t)
	if err != nil {
		return nil, err
	}
	leaves := map[int]*column{}
	for _, f := range files[:min(len(files), mostFooters)] {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := addFooter(ctx, t.Store(), leaves, f.URI); err != nil {
			return nil, err
		}
		info.FilesExamined++
	}
	for _, leaf := range leaves {
		info.RawBytes += leaf.RawBytes
	}
	info.Columns = columnInfos(t.Schema, leaves)
	for _, s := range t.Snapshots() {
		info.Snapshots = append(info.Snapshots, SnapshotInfo{s.ID, s.Committed, s.Operation, s.AddedRows, s.AddedFiles, s.Rows, s.Open})
	}
	return info, nil
}

// summarizeTable is the part of a description that needs no data file opened.
func summarizeTable(ctx context.Context, t *table.Table) (*TableInfo, []table.File, error) {
	info := &TableInfo{Name: t.Name.String(), Location: t.Location(), FormatVersion: t.FormatVersion(), Partitioning: t.Spec.String(),
		Sort: t.Sort.String(), Formats: []string{}, Columns: []ColumnInfo{}, Snapshots: []SnapshotInfo{}}
	totals, known := t.Totals()
	var files []table.File
	var err error
	if info.Files, info.Bytes, info.Deletes = totals.Files, totals.Bytes, totals.Deletes; known && totals.Files > mostFooters {
		// What the commits counted saves a look at all files.
		files, err = t.FirstFiles(ctx, mostFooters)
	} else {
		files, err = t.Files(ctx)
		if info.Deletes = errors.Is(err, table.ErrDeletes); info.Deletes {
			err = nil
		}
		info.Files, info.Bytes = len(files), 0
		for _, f := range files {
			info.Bytes += f.Bytes
		}
	}
	if err != nil {
		return nil, nil, err
	}
	for _, f := range files {
		info.Rows += f.Rows
		info.Formats = union(info.Formats, []string{f.Format})
	}
	slices.Sort(info.Formats)
	if rows, known := t.Rows(); known {
		info.Rows = rows
	} else {
		info.Open = info.Deletes
	}
	if s, ok := t.Current(); ok && t.Branch() != table.Main {
		info.Branch = t.Branch()
		info.State = &SnapshotInfo{s.ID, s.Committed, s.Operation, s.AddedRows, s.AddedFiles, s.Rows, s.Open}
	}
	if s, ok := t.Current(); ok {
		info.LastCommit = &s.Committed
	}
	return info, files, nil
}

// addFooter adds what one file's footer tells of its columns.
func addFooter(ctx context.Context, s storage.Store, leaves map[int]*column, uri string) error {
	f, err := columnar.Open(ctx, s, uri)
	if err != nil {
		return err
	}
	defer f.Close()
	if f.Counted() {
		return nil
	}
	l, err := f.Layout()
	if err != nil {
		return err
	}
	for _, c := range l.Columns {
		leaf := leaves[c.ID]
		if leaf == nil {
			leaf = &column{}
			leaves[c.ID] = leaf
		}
		leaf.Bytes += c.Bytes
		leaf.RawBytes += c.RawBytes
		leaf.Codecs = union(leaf.Codecs, c.Codecs)
		leaf.Encodings = union(leaf.Encodings, c.Encodings)
	}
	return nil
}

func union(a, b []string) []string {
	for _, word := range b {
		if !slices.Contains(a, word) {
			a = append(a, word)
		}
	}
	return a
}

// columnInfos lists every field of a schema, parents first. Nested ones have the sizes of their parts in them.
func columnInfos(s schema.Schema, leaves map[int]*column) []ColumnInfo {
	out := []ColumnInfo{}
	var visit func(prefix string, f schema.Field, depth int) column
	visit = func(prefix string, f schema.Field, depth int) column {
		at := len(out)
		path := prefix + f.Name
		out = append(out, ColumnInfo{ID: f.ID, Path: path, Depth: depth, Name: f.Name, Type: f.Type.String(), Required: f.Required,
			Origin: f.Origin, Longest: f.Longest})
		if f.Type.Nested() {
			out[at].Type = f.Type.Kind.String()
		}
		total := column{Codecs: []string{}, Encodings: []string{}}
		if leaf := leaves[f.ID]; leaf != nil {
			total = *leaf
		}
		parts := slices.Clone(f.Type.Fields)
		for _, part := range []*schema.Field{f.Type.Key, f.Type.Element} {
			if part != nil {
				parts = append(parts, *part)
			}
		}
		for _, part := range parts {
			below := visit(path+".", part, depth+1)
			total.Bytes += below.Bytes
			total.RawBytes += below.RawBytes
		}
		out[at].column = total
		return total
	}
	for _, f := range s.Fields {
		visit("", f, 0)
	}
	return out
}

// ListTables describes every table of a warehouse briefly, and says of those that cannot be read why.
func ListTables(ctx context.Context, w *table.Warehouse) ([]*TableInfo, error) {
	names, err := w.Names(ctx)
	if err != nil {
		return nil, err
	}
	var out []*TableInfo
	for _, name := range names {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		t, err := w.Find(ctx, name)
		var info *TableInfo
		if err == nil {
			info, _, err = summarizeTable(ctx, t)
		}
		if err != nil {
			info = &TableInfo{Name: name.String(), Error: err}
		}
		out = append(out, info)
	}
	return out, nil
}

// DescribeFile reads how a columnar file is built, and its schema.
func DescribeFile(ctx context.Context, s storage.Store, location string) (columnar.Layout, schema.Schema, error) {
	if err := describable(ctx, s, location); err != nil {
		return columnar.Layout{}, schema.Schema{}, err
	}
	f, err := columnar.Open(ctx, s, location)
	if err != nil {
		return columnar.Layout{}, schema.Schema{}, err
	}
	defer f.Close()
	l, err := f.Layout()
	return l, f.Schema, err
}

// describable refuses what is no columnar file, and says what it is and which command tells more of it.
func describable(ctx context.Context, s storage.Store, location string) error {
	wrong := func(what string) error {
		return fault.New(fault.Usage, "is %s, and only tables and columnar files are described",
			what).In(location).Try("look at it with").By(fault.LookAt, location)
	}
	if o, err := s.Stat(ctx, location); err == nil && o.Kind == storage.Folder {
		if locate.IsTable(ctx, s, location) {
			return fault.New(fault.Usage, "is the folder of a table").In(location).Try("name the table as namespace.table, with its " +
				"--warehouse")
		}
		return wrong("a folder")
	}
	found, err := locate.Resolve(ctx, s, []string{location}, nil)
	if err != nil {
		return err
	}
	in, err := source.Look(ctx, found.Objects[0], sniff.Stated{})
	switch {
	case err != nil:
		return err
	case in.Quarantined:
		return wrong("a quarantine file")
	case !in.Rules.Format.Columnar():
		return wrong(in.Rules.Format.Noun())
	case !in.AtHand():
		return fault.New(fault.Input, "is a columnar file, which is read from the disk only").In(location).Try("save it to a file first")
	}
	return nil
}
