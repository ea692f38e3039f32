package table

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/apache/arrow-go/v18/arrow/decimal128"
	"github.com/apache/iceberg-go"
	"github.com/google/uuid"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/storage"
)

// File is a data file of a table's current state.
type File struct {
	URI         string
	Format      string // parquet, orc or avro
	Rows, Bytes int64
	// Columns holds the compressed bytes of each leaf column by field id.
	Columns map[int]int64
	// Values and Nulls are counts, Lower and Upper bounds in the table format's single-value form, by field id; absent where
	// they are not known.
	Values, Nulls map[int]int64
	Lower, Upper  map[int][]byte

	entry iceberg.DataFile
}

// Path is how the table names the file, which deletes of its rows have to name it by.
func (f File) Path() string { return f.entry.FilePath() }

// Deletes reports whether the file deletes rows of others.
func (f File) Deletes() bool { return f.entry.ContentType() != iceberg.EntryContentData }

// Partition tells the partition of the file from all others, of other partitionings too.
func (f File) Partition() string { return partitionKey(f.entry) }

// Ordered reports whether the rows of a file stand in the order that the table has now.
func (t *Table) Ordered(f File) bool {
	id := f.entry.SortOrderID()
	return len(t.Sort) == 0 || id != nil && *id == t.table.Metadata().DefaultSortOrder()
}

// PartitionText writes the partition of a file for people, a part for each field, or "" without any.
func (t *Table) PartitionText(f File) string {
	spec := t.table.Metadata().PartitionSpecByID(int(f.entry.SpecID()))
	if spec == nil {
		return ""
	}
	values, parts := f.entry.Partition(), []string{}
	for _, field := range spec.Fields() {
		if _, void := field.Transform.(iceberg.VoidTransform); !void {
			parts = append(parts, field.Name+"="+field.Transform.ToHumanStr(values[field.FieldID]))
		}
	}
	return strings.Join(parts, "/")
}

// Constants are the values, by field id, that all rows of a file have in columns that it need not have itself: those that it is
// partitioned by as they are (Iceberg specification, "Column Projection"). Whole numbers, dates and times come as int64, others as
// float64, string, bool, []byte or decimal128.Num.
func (t *Table) Constants(f File) map[int]any {
	spec := t.table.Metadata().PartitionSpecByID(int(f.entry.SpecID()))
	if spec == nil {
		return nil
	}
	var out map[int]any
	for _, field := range spec.Fields() {
		if _, identity := field.Transform.(iceberg.IdentityTransform); identity {
			if out == nil {
				out = map[int]any{}
			}
			out[field.SourceID()] = plainValue(f.entry.Partition()[field.FieldID])
		}
	}
	return out
}

// plainValue is a partition value without the library's types.
func plainValue(v any) any {
	switch v := v.(type) {
	case iceberg.Decimal:
		return decimal128.Num(v.Val)
	case uuid.UUID:
		return v[:]
	}
	switch r := reflect.ValueOf(v); {
	case r.IsValid() && r.CanInt():
		return r.Int()
	case r.IsValid() && r.CanFloat():
		return r.Float()
	}
	return v
}

// OfSpec reports whether the file is of the partitioning that the table has now.
func (t *Table) OfSpec(f File) bool {
	spec := t.table.Spec()
	return int(f.entry.SpecID()) == spec.ID()
}

// PartitionOf is what File.Partition returns of a finished file once the table has it.
func (t *Table) PartitionOf(f layout.DataFile) (string, error) {
	spec := t.table.Spec()
	b, err := entry(spec, iceberg.EntryContentData, columnar.Parquet, f, partitionValues(spec, f.Values))
	if err != nil {
		return "", fmt.Errorf("describing %s: %w", f.URI, err)
	}
	return partitionKey(b.Build()), nil
}

// AllFiles lists the files of the current state, those with deletes too.
func (t *Table) AllFiles(ctx context.Context) ([]File, error) {
	return gather(ctx, t, func(e iceberg.ManifestEntry) (File, bool) { return fileOf(e.DataFile()), true })
}

// Totals is how many data files a state has and how large they are; known is false where its commit does not tell.
type Totals struct {
	Files   int
	Bytes   int64
	Deletes bool
}

// Totals tells what the commit of the state counted.
func (t *Table) Totals() (out Totals, known bool) {
	if t.state == nil {
		return out, true
	}
	if t.state.Summary == nil {
		return out, false
	}
	counts := map[string]int64{}
	for _, key := range []string{"total-data-files", "total-delete-files", "total-files-size"} {
		n, err := strconv.ParseInt(t.state.Summary.Properties[key], 10, 64)
		if err != nil {
			return out, false
		}
		counts[key] = n
	}
	return Totals{int(counts["total-data-files"]), counts["total-files-size"], counts["total-delete-files"] > 0}, true
}

// FirstFiles lists some of the data files, without a look at the others.
func (t *Table) FirstFiles(ctx context.Context, n int) (out []File, err error) {
	err = t.someEntries(ctx, func(e iceberg.ManifestEntry) bool {
		if f := e.DataFile(); f.ContentType() == iceberg.EntryContentData {
			out = append(out, fileOf(f))
		}
		return len(out) < n
	})
	return out, err
}

// Commit is the id of the commit that left the current state, empty for one of another program or none.
func (t *Table) Commit() string {
	if s := t.state; s != nil && s.Summary != nil {
		return s.Summary.Properties[commitIDKey]
	}
	return ""
}

// ErrDeletes is the cause of a refusal to read a table whose rows are in part deleted by files of their own.
var ErrDeletes = errors.New("the table has delete files")

// Files lists the data files of the current snapshot, in the order they were added. Where there are files of deletes besides,
// it lists the data files all the same and returns an error with the cause ErrDeletes: not all rows in them are the table's.
func (t *Table) Files(ctx context.Context) ([]File, error) {
	var deletes atomic.Bool
	out, err := gather(ctx, t, func(e iceberg.ManifestEntry) (File, bool) {
		f := e.DataFile()
		if f.ContentType() != iceberg.EntryContentData {
			deletes.Store(true)
			return File{}, false
		}
		return fileOf(f), true
	})
	if err == nil && deletes.Load() {
		e := fault.New(fault.Schema, "the table %s has rows that were deleted by files of their own, which its data files have "+
			"all the same", t.Name)
		e.Cause = ErrDeletes
		return out, e
	}
	return out, err
}

func fileOf(f iceberg.DataFile) File {
	return File{URI: storage.Path(f.FilePath()), entry: f, Format: strings.ToLower(string(f.FileFormat())), Rows: f.Count(),
		Bytes: f.FileSizeBytes(), Columns: f.ColumnSizes(),
		Values: f.ValueCounts(), Nulls: f.NullValueCounts(), Lower: f.LowerBoundValues(), Upper: f.UpperBoundValues()}
}

// sortManifests brings manifests into the order in which they came.
func sortManifests(manifests []iceberg.ManifestFile) {
	slices.SortStableFunc(manifests, func(a, b iceberg.ManifestFile) int { return int(a.SequenceNum() - b.SequenceNum()) })
}

// Snapshots lists the table's states, the newest first.
func (t *Table) Snapshots() []Snapshot {
	var out []Snapshot
	for _, s := range t.table.Metadata().Snapshots() {
		out = append(out, describeSnapshot(s))
	}
	slices.Reverse(out)
	return out
}

// Current returns the state that this is; ok is false for a table without any.
func (t *Table) Current() (s Snapshot, ok bool) {
	if t.state == nil {
		return Snapshot{}, false
	}
	return describeSnapshot(*t.state), true
}

// Location returns the table's folder.
func (t *Table) Location() string { return t.table.Location() }

// FormatVersion returns the version of the table format.
func (t *Table) FormatVersion() int { return t.table.Metadata().Version() }
