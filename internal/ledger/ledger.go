// Package ledger keeps which objects a table has taken in.
//
// What comes in are entries, one for each object of a load; what goes out are segments, which are files that hold entries, and the
// entries again. A table names its segments; which of them are merged into the next one is settled here.
package ledger

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/storage"
)

// Entry is an object that was taken in.
type Entry struct {
	// URI is the canonical one of the object. Standard input has none but "-".
	URI string
	// Size in bytes, Modified and Version mark the version of the object; Hash is that of its bytes as stored.
	Size     int64
	Modified time.Time
	Version  string
	Hash     string
	// Records were read of the object, Rows came of them, and the others went to the quarantine, or were filtered out.
	Records, Rows, Quarantined, Filtered int64
	// Before is how many records former loads had read of the object, where the load went on behind them. Origin is the number that
	// rows of the load have which came of the object; 0 for one that gave them none.
	Before, Origin int64
	// Load is the id of the commit that took the object in, which the table's snapshots name, and At when that was.
	Load string
	At   time.Time
}

// columns are those of a segment, in the order of an entry.
var columns = func() schema.Schema {
	kinds := []struct {
		name string
		kind schema.Kind
	}{{"uri", schema.String}, {"size_bytes", schema.Long}, {"modified_at", schema.TimestampTz}, {"version", schema.String},
		{"hash", schema.String}, {"records_read", schema.Long}, {"rows_written", schema.Long}, {"records_quarantined", schema.Long},
		{"records_filtered", schema.Long}, {"load_id", schema.String}, {"loaded_at", schema.TimestampTz},
		{"records_before", schema.Long}, {"origin", schema.Long}}
	var s schema.Schema
	for _, k := range kinds {
		s.Fields = append(s.Fields, schema.Field{Name: k.name, Type: schema.Type{Kind: k.kind}, Required: true})
	}
	s.AssignIDs()
	return s
}()

// prefix begins the names of segments. What follows is how many entries there are, and the id of the load that wrote them.
const prefix = "ledger-"

// nameOf is the name of a segment.
func nameOf(entries int, load string) string {
	return fmt.Sprintf("%s%d-%s%s", prefix, entries, load, columnar.Parquet)
}

// Count is how many entries a segment has, by its name; 0 where that does not tell.
func Count(name string) int {
	count, _, _ := strings.Cut(strings.TrimPrefix(name, prefix), "-")
	n, err := strconv.Atoi(count)
	if err != nil {
		return 0
	}
	return n
}

// Merging returns how many of the newest segments go into the next one, which has some entries of its own: those that are not much
// larger than what there is already. So there are never more segments than a few for each doubling of the entries.
func Merging(segments []string, entries int) int {
	for i, name := range segments {
		n := Count(name)
		if n > 2*entries {
			return i
		}
		entries += n
	}
	return len(segments)
}

// Write writes a segment into a folder, with the entries of older segments that are merged into it, and returns its name. It is on
// the disk when it is named.
func Write(ctx context.Context, s storage.Store, folder, load string, entries []Entry, merged []string) (name string, err error) {
	for _, older := range merged {
		if err := Read(ctx, s, folder, older, func(e Entry) error {
			entries = append(entries, e)
			return nil
		}); err != nil {
			return "", err
		}
	}
	name = nameOf(len(entries), load)
	w, err := s.Create(ctx, storage.Join(folder, name), storage.Creation{Mode: storage.Replace, Durable: true})
	if err != nil {
		return "", fault.Wrap(fault.Storage, err, "the ledger cannot be written")
	}
	if err = fill(ctx, w, entries); err == nil {
		err = w.Commit()
	}
	if err != nil {
		_ = w.Abort()
		return "", fault.Wrap(fault.Storage, err, "the ledger cannot be written")
	}
	return name, nil
}

// leastColumns are those that every segment has.
const leastColumns = 11

// batchEntries is how many entries are written at a time.
const batchEntries = 64 << 10

func fill(ctx context.Context, w storage.Writer, entries []Entry) error {
	file, err := columnar.NewFile(w, columns, columnar.DefaultOptions)
	if err != nil {
		return err
	}
	for len(entries) > 0 {
		n := min(batchEntries, len(entries))
		batch := batchOf(entries[:n])
		err := file.Write(ctx, batch)
		batch.Release()
		if err != nil {
			return err
		}
		entries = entries[n:]
	}
	_, err = file.Close()
	return err
}

func batchOf(entries []Entry) arrow.RecordBatch {
	b := array.NewRecordBuilder(memory.DefaultAllocator, columns.Arrow())
	defer b.Release()
	for _, e := range entries {
		for i, v := range []any{e.URI, e.Size, e.Modified, e.Version, e.Hash, e.Records, e.Rows, e.Quarantined, e.Filtered, e.Load, e.At,
			e.Before, e.Origin} {
			switch v := v.(type) {
			case string:
				b.Field(i).(*array.StringBuilder).Append(v)
			case int64:
				b.Field(i).(*array.Int64Builder).Append(v)
			case time.Time:
				b.Field(i).(*array.TimestampBuilder).Append(arrow.Timestamp(v.UnixMicro()))
			}
		}
	}
	return b.NewRecordBatch()
}

// Read hands over the entries of a segment.
func Read(ctx context.Context, s storage.Store, folder, name string, visit func(Entry) error) error {
	file, err := columnar.Open(ctx, s, storage.Join(folder, name))
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the ledger cannot be read")
	}
	defer file.Close()
	return file.Batches(ctx, func(b arrow.RecordBatch) error {
		if int(b.NumCols()) < leastColumns {
			return fault.New(fault.Storage, "the ledger cannot be read: %s has %d columns", name, b.NumCols())
		}
		text := func(c, row int) string { return b.Column(c).(*array.String).Value(row) }
		number := func(c, row int) int64 {
			if c >= int(b.NumCols()) {
				return 0
			}
			return b.Column(c).(*array.Int64).Value(row)
		}
		at := func(c, row int) time.Time {
			return time.UnixMicro(int64(b.Column(c).(*array.Timestamp).Value(row))).UTC()
		}
		for row := range int(b.NumRows()) {
			e := Entry{URI: text(0, row), Size: number(1, row), Modified: at(2, row), Version: text(3, row), Hash: text(4, row),
				Records: number(5, row), Rows: number(6, row), Quarantined: number(7, row), Filtered: number(8, row), Load: text(9, row),
				At: at(10, row), Before: number(11, row), Origin: number(12, row)}
			if err := visit(e); err != nil {
				return err
			}
		}
		return nil
	})
}
