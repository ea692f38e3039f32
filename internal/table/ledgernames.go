package table

import (
	"context"
	"maps"
	"strings"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/storage"
)

// ledgerKey is the entry of a snapshot's summary that names the segments of the ledger, the newest first, and the property that names
// them where the snapshots that did have expired.
const ledgerKey = "trevak.ledger"

// Ledger returns the names of the segments that tell which objects the table has taken in: those that the nearest ancestor of its state
// names which names any, so that a state that is brought back has the ledger it had.
func (t *Table) Ledger() []string {
	metadata, names := t.table.Metadata(), ""
	ancestors(metadata, t.state, func(s icetable.Snapshot) bool {
		names = ledgerOf(s)
		return names == ""
	})
	if names == "" && t.state != nil {
		names = metadata.Properties()[ledgerKey]
	}
	if names == "" {
		return nil
	}
	return ledgerNames(names)
}

// noLedger stands for a ledger without a segment.
const noLedger = "none"

func ledgerNames(text string) []string {
	if text == noLedger {
		return nil
	}
	return strings.Split(text, ",")
}

// joinLedger is what ledgerNames takes apart.
func joinLedger(names []string) string {
	if len(names) == 0 {
		return noLedger
	}
	return strings.Join(names, ",")
}

// LedgerFolder is where the segments lie.
func (t *Table) LedgerFolder() string { return storage.Join(t.Location(), "metadata") }

// SnapshotOf returns the id of the snapshot that a commit left; 0 where it has expired.
func (t *Table) SnapshotOf(commit string) int64 {
	for _, s := range t.table.Metadata().Snapshots() {
		if s.Summary != nil && s.Summary.Properties[commitIDKey] == commit {
			return s.SnapshotID
		}
	}
	return 0
}

// withLedger has a change name the segments that the ledger has with it.
func (c Change) withLedger(ctx context.Context, now *Table) (Change, error) {
	if c.Ledger == nil {
		// Each state names the ledger that it has, so that it has it still when those before it have expired.
		if names := now.Ledger(); len(names) > 0 && !c.Quiet {
			c.Summary = maps.Clone(c.Summary)
			if c.Summary == nil {
				c.Summary = map[string]string{}
			}
			c.Summary[ledgerKey] = strings.Join(names, ",")
		}
		return c, nil
	}
	names, err := c.Ledger(ctx, now)
	if err != nil {
		return c, err
	}
	c.Summary, c.Properties = maps.Clone(c.Summary), maps.Clone(c.Properties)
	if c.Summary == nil {
		c.Summary = map[string]string{}
	}
	if c.Properties == nil {
		c.Properties = map[string]string{}
	}
	text := joinLedger(names)
	c.Summary[ledgerKey], c.Properties[ledgerKey] = text, text
	return c, nil
}
