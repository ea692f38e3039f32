package inspect

import (
	"context"
	"path"
	"slices"
	"strings"

	"trevak/internal/ledger"
	"trevak/internal/table"
)

// TakenIn is an object that a table has taken in, and the snapshot that it came with; 0 where that has expired.
type TakenIn struct {
	ledger.Entry
	SnapshotID int64
}

// ListLedger lists the objects that a table has taken in, in the order in which that was done; matching keeps those whose location holds
// a text, or is matched by a pattern.
func ListLedger(ctx context.Context, t *table.Table, matching string) ([]TakenIn, error) {
	var out []TakenIn
	snapshots := map[string]int64{}
	for _, name := range t.Ledger() {
		if err := ledger.Read(ctx, t.Store(), t.LedgerFolder(), name, func(e ledger.Entry) error {
			if !matches(matching, e.URI) {
				return nil
			}
			id, ok := snapshots[e.Load]
			if !ok {
				id = t.SnapshotOf(e.Load)
				snapshots[e.Load] = id
			}
			out = append(out, TakenIn{e, id})
			return nil
		}); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(out, func(a, b TakenIn) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		return strings.Compare(a.URI, b.URI)
	})
	return out, nil
}

// matches reports whether a location holds a text, or its last part is matched by a pattern.
func matches(pattern, uri string) bool {
	if strings.Contains(uri, pattern) {
		return true
	}
	ok, err := path.Match(pattern, path.Base(uri))
	return ok && err == nil
}

// LedgerGap lists the objects that some segments of a table's ledger have and others have not.
func LedgerGap(ctx context.Context, t *table.Table, have, others []string) ([]ledger.Entry, error) {
	type taken struct{ uri, load string }
	known := map[taken]bool{}
	var out []ledger.Entry
	read := func(names, but []string, visit func(ledger.Entry)) error {
		for _, name := range names {
			if slices.Contains(but, name) {
				continue
			}
			if err := ledger.Read(ctx, t.Store(), t.LedgerFolder(), name, func(e ledger.Entry) error {
				visit(e)
				return nil
			}); err != nil {
				return err
			}
		}
		return nil
	}
	if err := read(others, have, func(e ledger.Entry) { known[taken{e.URI, e.Load}] = true }); err != nil {
		return nil, err
	}
	err := read(have, others, func(e ledger.Entry) {
		if !known[taken{e.URI, e.Load}] {
			out = append(out, e)
		}
	})
	return out, err
}
