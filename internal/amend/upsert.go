package amend

import (
	"context"
	"slices"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"golang.org/x/sync/errgroup"

	"trevak/internal/expr"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/rowhash"
	"trevak/internal/run"
	"trevak/internal/scan"
	"trevak/internal/schema"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Options says how the rows of a load are held against those of a table.
type Options struct {
	// Key are the columns, by their legal names, that tell rows from each other.
	Key []string
	// Missing leaves rows alone whose key the table has; otherwise they are updated.
	Missing bool
	// NewestBy is a column by which the newer of two rows of one key holds, in the table too; empty for the later of the load.
	NewestBy string
	// DeleteWhere is a condition for rows that mark a delete; empty for none.
	DeleteWhere string
	// Keep are columns that rows which are updated keep as they are, and KeepUnseen says that so are those without a single value in the
	// load.
	Keep       []string
	KeepUnseen bool
	// As says how rows of the table are taken out.
	As How
}

// Upsert is where the rows of a load leave that are held against a table by their key. It is a write.Sink.
type Upsert struct {
	// Counts, Outcome, Deletes and Remove are what the rows came to, once it is closed, and Unseen the columns that were kept for having
	// no value.
	Counts  write.MergeCounts
	Outcome write.Outcome
	Deletes []table.DeleteFile
	Remove  []table.File
	Unseen  []string

	options Options
	out     *write.Output
	table   *table.Table // nil for one that does not exist yet
	budget  run.Budget
	key     []int
	newest  int // -1 for none
	mark    *expr.Expression
	compare []int // columns that tell an update from what is as it was
	keep    []int
	seen    []bool // columns with a value, by their place

	most     int64 // keys that are looked for at a time
	straight bool  // rows go into files as they come
	spool    spool
	log      log
	ranges   []ranges // of the columns of the key
	outcomes []outcome
	gone     *gone
	patches  *patches
	digests  []*digest // that are worked on, in order
}

// outcome is what becomes of a row.
type outcome uint8

const (
	superseded outcome = iota + 1
	inserted
	updated
	unchanged
	deleted
	unmet
	known
	older
)

// Memory that is used before what waits goes to the disk, and how many keys are looked for at a time.
const (
	spoolBytes = 128 << 20
	logRecords = 1 << 20
	mostKeys   = 1_500_000
)

// NewUpsert prepares for the rows of an output, which are those of a table, nil for one that comes into being.
func NewUpsert(o Options, out *write.Output, t *table.Table, b run.Budget) (*Upsert, error) {
	s := out.Schema
	u := &Upsert{options: o, out: out, table: t, budget: b, newest: -1, most: b.Share(mostKeys), straight: write.Straight(out)}
	dir := out.Options.TempDir
	u.spool, u.log = spool{most: b.Share(spoolBytes), dir: dir}, log{most: int(b.Share(logRecords)), dir: dir}
	var err error
	if u.key, err = keyFields(s, o.Key); err != nil {
		return nil, err
	}
	u.ranges = make([]ranges, len(u.key))
	if u.newest, err = newestField(s, o.NewestBy); err != nil {
		return nil, err
	}
	if o.DeleteWhere != "" {
		if u.mark, err = expr.Parse(o.DeleteWhere, s.Fields); err != nil {
			return nil, fault.Wrap(fault.Usage, err, "--delete-where")
		}
		if u.mark.Type().Kind != schema.Boolean {
			return nil, fault.New(fault.Usage, "--delete-where %q is no condition", o.DeleteWhere).
				Try("write one that is true or false, like \"op = 'D'\"")
		}
	}
	for _, name := range o.Keep {
		if at := s.Index(name); at >= 0 {
			u.keep = append(u.keep, at)
		}
	}
	u.seen = make([]bool, len(s.Fields))
	if t == nil {
		u.keep, u.options.KeepUnseen = nil, false
		return u, nil
	}
	u.compare = compared(s, u.key, u.keep, u.newest)
	u.patches = newPatches(s, u.keep, out.Options)
	return u, nil
}

// newestField finds the column by which the newer row is told, -1 for none.
func newestField(s schema.Schema, name string) (int, error) {
	if name == "" {
		return -1, nil
	}
	f, err := layout.Column(s, name)
	if err != nil {
		return -1, err
	}
	switch k := f.Type.Kind; {
	case k == schema.Decimal && f.Type.Precision <= 18, k == schema.Int, k == schema.Long, k == schema.Float, k == schema.Double,
		k == schema.Date, k == schema.Time, k == schema.Timestamp, k == schema.TimestampTz, k == schema.TimestampNs, k == schema.TimestampTzNs:
		return s.Index(f.Name), nil
	}
	return -1, fault.New(fault.Usage, "--newest-by %s: the column is %s, which does not tell which of two rows is newer", name, f.Type).
		Try("name a column of numbers, dates or timestamps")
}

// Coded reports that columns may come as dictionaries where they go into files as they come; the memory of batches is kept.
func (u *Upsert) Coded() (columns, memory bool) {
	return u.straight && u.mark == nil && len(u.keep) == 0 && !u.options.KeepUnseen, false
}

// Write takes rows, which wait until all are there. What is kept of each is worked out side by side.
func (u *Upsert) Write(ctx context.Context, b arrow.RecordBatch) error {
	if b.NumRows() == 0 {
		return nil
	}
	d := digest{batch: b, done: make(chan struct{})}
	go func() {
		defer close(d.done)
		d.records, d.err = u.records(b)
	}()
	u.digests = append(u.digests, &d)
	if len(u.digests) < max(2, u.budget.Workers) {
		return nil
	}
	return u.absorb(ctx)
}

// digest is a batch with what is kept of its rows, once that is done.
type digest struct {
	batch   arrow.RecordBatch
	records []record
	err     error
	done    chan struct{}
}

// absorb takes the first of the batches that are worked on.
func (u *Upsert) absorb(ctx context.Context) error {
	d := u.digests[0]
	u.digests = u.digests[1:]
	<-d.done
	if d.err != nil {
		return d.err
	}
	for i, c := range u.key {
		u.ranges[i].add(d.batch.Column(c))
	}
	for i := range u.seen {
		u.seen[i] = u.seen[i] || d.batch.Column(i).NullN() < int(d.batch.NumRows())
	}
	if err := u.log.add(d.records); err != nil {
		return err
	}
	return u.spool.add(ctx, d.batch)
}

// records are what is kept of the rows of a batch.
func (u *Upsert) records(b arrow.RecordBatch) ([]record, error) {
	n := int(b.NumRows())
	for _, c := range u.key {
		if b.Column(c).NullN() > 0 {
			return nil, fault.New(fault.Schema, "column %q of the key has a null", u.out.Schema.Fields[c].Name).
				Try("this is a fault of the program; nothing was written")
		}
	}
	out := make([]record, n)
	for i, k := range rowhash.Keys(b, u.key, nil) {
		out[i].key = k
	}
	if u.newest >= 0 {
		newest := newestBits(b.Column(u.newest))
		for i := range out {
			out[i].newest = newest(i)
		}
	}
	if u.mark != nil {
		marked, err := u.mark.Rows(b.Columns(), n)
		if err != nil {
			return nil, fault.Wrap(fault.Input, err, "--delete-where")
		}
		for _, row := range marked {
			out[row].mark = true
		}
	}
	values := make([]uint64, n)
	for j, c := range u.compare {
		rowhash.Column(b.Column(c), seedOf(j), values)
		for i, v := range values {
			out[i].content += v
			if j < printed {
				out[i].prints[j] = byte(v >> 56)
			}
		}
	}
	return out, nil
}

// newestBits returns what orders values of a column, 0 for null.
func newestBits(a arrow.Array) func(i int) uint64 {
	if d, ok := a.(*array.Dictionary); ok {
		of := newestBits(d.Dictionary())
		return func(i int) uint64 {
			if d.IsNull(i) {
				return 0
			}
			return of(d.GetValueIndex(i))
		}
	}
	bits := layout.OrderedBits(a)
	if d, ok := a.(*array.Decimal128); ok {
		bits = func(i int) uint64 { return d.Value(i).LowBits() ^ 1<<63 }
	}
	return func(i int) uint64 {
		if a.IsNull(i) {
			return 0
		}
		return max(1, bits(i))
	}
}

// Close finds the rows of the table that have keys of the load, and writes what is to be written.
func (u *Upsert) Close(ctx context.Context) (write.Stored, error) {
	var out write.Stored
	for len(u.digests) > 0 {
		if err := u.absorb(ctx); err != nil {
			return out, err
		}
	}
	u.keepUnseen()
	u.outcomes = make([]outcome, u.log.n)
	if err := u.settle(ctx); err != nil {
		return out, err
	}
	u.count()
	if u.Counts.All() != u.log.n {
		return out, fault.New(fault.Storage, "%d rows were held against the table, but %d are accounted for", u.log.n, u.Counts.All()).
			Try("this is a fault of the program; nothing was committed")
	}
	files := layout.NewRouter(u.out.Stored(), u.out.Spec, u.out.Options, u.out.Create)
	defer files.Abandon()
	if u.gone != nil {
		err := u.gone.settle(ctx, u.options.As, u.Counts.Inserted+u.Counts.Updated)
		if err == nil {
			err = u.gone.rewrite(ctx, u.out, files.Write)
		}
		if err == nil {
			u.Deletes, err = u.gone.deleteFiles(ctx, u.out)
		}
		if err != nil {
			return out, err
		}
		u.Outcome, u.Remove = u.gone.outcome, u.gone.removed()
	}
	if err := u.emit(ctx, files); err != nil {
		return out, err
	}
	var err error
	if out.Files, err = files.Close(ctx); err != nil {
		return out, err
	}
	out.Rows, out.Partitions = u.log.n, files.Partitions()
	for _, f := range out.Files {
		out.Bytes += f.Summary.Bytes
	}
	for _, d := range u.Deletes {
		out.Bytes += d.Summary.Bytes
	}
	return out, nil
}

// keepUnseen has updated rows keep the columns that have no value in the load, where that is asked for.
func (u *Upsert) keepUnseen() {
	if !u.options.KeepUnseen || u.log.n == 0 {
		return
	}
	for i, f := range u.out.Schema.Fields {
		if !u.seen[i] && !slices.Contains(u.keep, i) && slices.Contains(u.compare, i) && f.Name != schema.MisfitColumn {
			u.keep, u.Unseen = append(u.keep, i), append(u.Unseen, f.Name)
		}
	}
	u.patches = newPatches(u.out.Schema, u.keep, u.out.Options)
}

// settle decides what becomes of each row. Where there are too many keys to be looked for at once, some are after the others.
func (u *Upsert) settle(ctx context.Context) error {
	parts := uint64(1)
	for u.log.n > int64(parts)*u.most {
		parts *= 2
	}
	var look *lookup
	var k *keys
	// The files are planned while the first keys are gathered.
	var work errgroup.Group
	if u.table != nil && u.log.n > 0 {
		work.Go(func() (err error) {
			look, err = u.newLookup(ctx)
			return err
		})
	}
	work.Go(func() (err error) {
		k, err = u.gather(0, parts)
		return err
	})
	if err := work.Wait(); err != nil {
		return err
	}
	if look != nil {
		u.gone = newGone(u.table, look.tasks)
	}
	for part := range parts {
		if part > 0 {
			var err error
			if k, err = u.gather(part, parts); err != nil {
				return err
			}
		}
		if look != nil {
			if err := look.run(ctx, k); err != nil {
				return err
			}
		}
		for i := range k.entries {
			e := &k.entries[i]
			if u.outcomes[e.row] == 0 {
				u.outcomes[e.row] = u.fate(e)
			}
		}
		if look != nil {
			if err := look.take(ctx, k); err != nil {
				return err
			}
		}
	}
	return nil
}

// gather makes entries of the keys of one part, of which later rows take the place of earlier ones, or newer ones of older ones.
func (u *Upsert) gather(part, parts uint64) (*keys, error) {
	k := newKeys(int(min(u.log.n, u.most)))
	err := u.log.each(func(n int64, r *record) {
		// The place in the table of keys goes by the lowest bits.
		if r.key.High>>48%parts != part {
			return
		}
		e := k.find(r.key)
		switch {
		case e == nil:
			k.add(r, n)
		case u.newest >= 0 && r.newest < e.newest, u.newest >= 0 && u.options.Missing && r.newest == e.newest, u.newest < 0 && u.options.Missing:
			u.outcomes[n] = superseded
		default:
			u.outcomes[e.row] = superseded
			e.record, e.row = *r, n
		}
	})
	return k, err
}

// fate is what becomes of the row of an entry.
func (u *Upsert) fate(e *entry) outcome {
	switch {
	case e.met == 0 && e.mark:
		return unmet
	case e.met == 0:
		return inserted
	case u.options.Missing:
		return known
	case e.behind:
		return older
	case e.mark:
		return deleted
	}
	return updated
}

func (u *Upsert) count() {
	c := &u.Counts
	to := map[outcome]*int64{superseded: &c.Superseded, inserted: &c.Inserted, updated: &c.Updated, unchanged: &c.Unchanged,
		deleted: &c.Deleted, unmet: &c.Unmet, known: &c.Known, older: &c.Older}
	for _, o := range u.outcomes {
		if n := to[o]; n != nil {
			*n++
		}
	}
}

// emit writes the rows that are new or updated.
func (u *Upsert) emit(ctx context.Context, files *layout.Router) error {
	first := int64(0)
	if err := u.patches.begin(ctx); err != nil {
		return err
	}
	defer u.patches.end()
	return u.spool.each(func(b arrow.RecordBatch) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		at := first
		first += b.NumRows()
		var kept []int32
		for i, o := range u.outcomes[at:first] {
			if o == inserted || o == updated {
				kept = append(kept, int32(i))
			}
		}
		if len(kept) == 0 {
			return nil
		}
		b, err := scan.Taken(ctx, b, kept)
		if err != nil {
			return err
		}
		if b, err = u.patches.patch(ctx, b, at, kept, u.outcomes); err != nil {
			return err
		}
		return files.Write(ctx, b)
	})
}

// Abandon gives up what was taken.
func (u *Upsert) Abandon() {
	for _, d := range u.digests {
		<-d.done
	}
	u.digests = nil
	u.spool.close()
	u.log.close()
	u.patches.close()
}
