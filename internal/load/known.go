package load

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/ledger"
	"trevak/internal/locate"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// standardInput is the URI of what is known by its content alone.
const standardInput = "-"

// ledgered is what a table's ledger knows, as far as a load needs it.
type ledgered struct {
	segments []string
	byURI    map[string]ledger.Entry
	byHash   map[string]string // the URI of an object with some content
	inputs   int               // entries of standard input
	names    *canonical
}

// canonical spells locations as the ledger does, and remembers how it spelled their folders.
type canonical struct{ folders map[string]string }

func (c *canonical) of(s storage.Store, uri string) string {
	folder, ok := c.folders[storage.Dir(uri)]
	if !ok {
		var err error
		if folder, err = s.Canonical(storage.Dir(uri)); err != nil {
			return uri
		}
		c.folders[storage.Dir(uri)] = folder
	}
	return storage.Shown(storage.Join(folder, storage.Base(uri)))
}

// passOverKnown has files that the table, or each of the tables, has taken in, and that have their size and time of change still, passed
// over before they are opened.
func (l *Request) passOverKnown(ctx context.Context) error {
	var all []*ledgered
	for _, name := range l.tables() {
		t, err := l.find(ctx, name)
		if err != nil {
			return err
		}
		k, err := readLedger(ctx, t, nil)
		if err != nil || len(k.segments) == 0 {
			return err
		}
		all = append(all, k)
	}
	l.ledger = all[0]
	l.Known = func(o storage.Object) bool {
		for _, k := range all {
			was, ok := k.byURI[k.names.of(l.Store, o.URI)]
			if !ok || was.Size != o.Size || o.Modified.IsZero() || !was.Modified.Equal(o.Modified.Truncate(time.Microsecond)) {
				return false
			}
		}
		return true
	}
	return nil
}

// tables are those that the load goes to.
func (l *Request) tables() []table.Name {
	out := []table.Name{l.Into}
	for _, s := range l.Splits {
		out = append(out, s.Into)
	}
	return out
}

// readLedger reads the ledger of a table, nil for none, unless what was read of it last is what it is still.
func readLedger(ctx context.Context, t *table.Table, last *ledgered) (*ledgered, error) {
	if t != nil && last != nil && slices.Equal(last.segments, t.Ledger()) {
		return last, nil
	}
	known := &ledgered{byURI: map[string]ledger.Entry{}, byHash: map[string]string{}, names: &canonical{map[string]string{}}}
	if t == nil {
		return known, nil
	}
	known.segments = t.Ledger()
	entries := 0
	for _, name := range known.segments {
		entries += ledger.Count(name)
	}
	known.byURI, known.byHash = make(map[string]ledger.Entry, entries), make(map[string]string, entries)
	return known, known.add(ctx, t, known.segments)
}

// add takes entries of segments, the newest first.
func (k *ledgered) add(ctx context.Context, t *table.Table, segments []string) error {
	for _, name := range segments {
		if err := ledger.Read(ctx, t.Store(), t.LedgerFolder(), name, func(e ledger.Entry) error {
			if last, ok := k.byURI[e.URI]; e.URI != standardInput && (!ok || e.At.After(last.At)) {
				k.byURI[e.URI] = e
			}
			if e.URI == standardInput {
				k.inputs++
			}
			if e.Hash != "" && k.byHash[e.Hash] == "" {
				k.byHash[e.Hash] = e.URI
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// uriOf is what an object is known by: its canonical URI, without what gives access to it.
func uriOf(o locate.Object) string { return storage.Shown(o.Canonical()) }

// The states of an object against a ledger.
const (
	unknownObject = iota
	knownObject
	changedObject
)

// look tells whether an object was taken in before. One that has its size but another time of change is told by its content, which is
// read for it.
func (k *ledgered) look(ctx context.Context, o locate.Object) (state int, was ledger.Entry, err error) {
	if o.Location == standardInput {
		hash, err := hashOf(ctx, o)
		if err == nil && k.byHash[hash] != "" {
			state = knownObject
		}
		return state, was, err
	}
	was, ok := k.byURI[uriOf(o)]
	switch {
	case !ok:
		return unknownObject, was, nil
	case was.Size != o.Size:
		return changedObject, was, nil
	case !o.Modified.IsZero() && was.Modified.Equal(o.Modified.Truncate(time.Microsecond)):
		return knownObject, was, nil
	}
	hash, err := hashOf(ctx, o)
	if err == nil && hash == was.Hash {
		return knownObject, was, nil
	}
	return changedObject, was, err
}

// hashOf is the hash of an object, however much it unpacks to.
func hashOf(ctx context.Context, o locate.Object) (string, error) {
	o.MayExpand = true
	return o.Hash(ctx)
}

// onlyNew leaves out of the source what the table has taken in already, and tells how much that is. none is set where nothing is left.
func (l *Request) onlyNew(ctx context.Context, t *table.Table) (k *ledgered, counts write.Known, none bool, err error) {
	if k, err = readLedger(ctx, t, l.ledger); err != nil || len(k.segments) == 0 && l.Known == nil {
		return k, counts, false, err
	}
	objects, passed := l.Found()
	wanted := map[string]bool{}
	// By the ledger that they were passed over for they are known.
	for _, uri := range passed {
		if k == l.ledger {
			break
		}
		if _, ok := k.byURI[k.names.of(l.Store, uri)]; !ok {
			return k, counts, false, fault.New(fault.Conflict, "the table %s was brought back to a former state meanwhile", l.Into).
				Try("run the command again; nothing was written")
		}
	}
	counts.Known = len(passed)
	if l.wholly() {
		none, err = k.onlyThese(ctx, t, objects)
		if none {
			counts.Known = len(objects)
		}
		return k, counts, none, err
	}
	for _, o := range objects {
		state, was, err := k.look(ctx, o)
		switch {
		case err != nil:
			return k, counts, false, err
		case state == knownObject:
			counts.Known++
			continue
		case state == changedObject:
			if err := l.changed(ctx, o, was); err != nil {
				return k, counts, false, err
			}
			counts.Changed++
		default:
			counts.New++
		}
		wanted[o.Location] = true
	}
	l.Keep(func(o locate.Object) bool { return wanted[o.Location] })
	return k, counts, len(wanted) == 0, nil
}

// wholly reports whether the table is to have nothing but what this load takes in.
func (l Request) wholly() bool { return l.Mode == Replace && !l.Touching }

// current is the state of a table, if there is one.
func current(t *table.Table) (s table.Snapshot, ok bool) {
	if t == nil {
		return s, false
	}
	return t.Current()
}

// onlyThese reports whether the table has taken in some objects as they are, and nothing else, and was not changed since.
func (k *ledgered) onlyThese(ctx context.Context, t *table.Table, objects []locate.Object) (bool, error) {
	if s, ok := current(t); !ok || s.Operation != Replace.String() || len(objects) != len(k.byURI)+k.inputs {
		return false, nil
	}
	for _, e := range k.byURI {
		if e.Load != t.Commit() {
			return false, nil
		}
	}
	for _, o := range objects {
		if state, _, err := k.look(ctx, o); err != nil || state != knownObject {
			return false, err
		}
	}
	return true, nil
}

// mostOrigin is below which the numbers of origins are, so that every program takes them as they are.
const mostOrigin = 1 << 52

// freshOrigin is the first of so many numbers of origins that no object has yet.
func (k *ledgered) freshOrigin(objects int) int64 {
	for {
		first, taken := 1+rand.Int64N(mostOrigin), false
		if k != nil {
			for _, e := range k.byURI {
				taken = taken || e.Origin >= first && e.Origin < first+int64(objects)
			}
		}
		if !taken {
			return first
		}
	}
}

// suits makes the checks of a load that need no row, where there is none to be loaded.
func (l Request) suits(ctx context.Context, t *table.Table) error {
	f := appending{Request: l, table: t}
	if err := l.Warehouse.MayWrite(ctx, l.Into, t); err != nil {
		return err
	}
	if err := f.sameLayout(); err != nil {
		return err
	}
	return f.sameKey()
}

// nothingNew is the account of a load whose objects are all known.
func (l Request) nothingNew(counts write.Known) *write.Report {
	return &write.Report{Table: l.Into.String(), Branch: l.Branch, Known: counts, NothingNew: true, DryRun: l.DryRun, Codec: "none"}
}

// entries are what a load puts into the ledger.
func (w *pending) entries(at time.Time) []ledger.Entry {
	if w.fixed != nil {
		return slices.Clone(w.fixed)
	}
	out := make([]ledger.Entry, len(w.report.Objects))
	for i, o := range w.report.Objects {
		in := w.data.Inputs[i]
		out[i] = ledger.Entry{URI: uriOf(in.Object), Size: o.Bytes, Modified: in.Modified, Hash: o.Hash, Records: o.RecordsRead,
			Rows: o.RowsWritten, Quarantined: o.RecordsQuarantined, Filtered: o.RecordsFiltered, At: at,
			Before: o.RecordsBefore, Origin: w.origin + int64(i)}
	}
	return out
}

// record writes the objects of a load into the ledger of its table, as this is while no other commit can come first. Where another has
// taken in one of them meanwhile, the load has to be looked at again.
func (w *pending) record(ctx context.Context, now *table.Table, load string) ([]string, error) {
	segments := now.Ledger()
	entries := w.entries(time.Now().UTC().Truncate(time.Microsecond))
	if w.known != nil && !w.again {
		fresh := &ledgered{byURI: map[string]ledger.Entry{}, byHash: map[string]string{}}
		var others []string
		for _, name := range segments {
			if !slices.Contains(w.known.segments, name) {
				others = append(others, name)
			}
		}
		if err := fresh.add(ctx, now, others); err != nil {
			return nil, err
		}
		for _, e := range entries {
			taken, ok := fresh.byURI[e.URI]
			before, was := w.known.byURI[e.URI]
			if ok && (!was || !taken.At.Equal(before.At)) || e.URI == standardInput && fresh.byHash[e.Hash] != "" && w.known.byHash[e.Hash] == "" {
				return nil, table.Overtaken(now.Name)
			}
		}
	}
	if w.anew {
		// Nothing is left of what the table took in before.
		segments = nil
	}
	merged := ledger.Merging(segments, len(entries))
	for i := range entries {
		entries[i].Load = load
	}
	if w.segment != "" {
		// That of a try which another commit came before. What cannot be removed is named by nothing.
		_ = now.Store().Remove(ctx, storage.Join(now.LedgerFolder(), w.segment))
	}
	name, err := ledger.Write(ctx, now.Store(), now.LedgerFolder(), load, entries, segments[:merged])
	if err != nil {
		return nil, err
	}
	w.segment = name
	return append([]string{name}, segments[merged:]...), nil
}

// alike points out objects whose content was taken in under another name.
func (w *pending) alike() {
	if w.known == nil {
		return
	}
	for i, o := range w.report.Objects {
		uri := w.known.byHash[o.Hash]
		if uri != "" && o.Hash != "" && uri != uriOf(w.data.Inputs[i].Object) {
			w.report.Alike = append(w.report.Alike, write.Alike{Location: o.Location, Other: uri})
		}
	}
}

// errNothingNew says that every object of a load is known.
var errNothingNew = errors.New("every object is known")
