package load

import (
	"context"
	"slices"
	"time"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/infer"
	"trevak/internal/locate"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/source"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Receiver makes where rows go of an output; absent are the columns that no object has.
type Receiver func(of *write.Output, inputs []source.Input, absent []string) (write.Sink, error)

// HandOver reads the source as a load into a table that is there would, and hands its rows to a sink, which is made anew where the schema
// turns out too narrow. Nothing is written, records that cannot become rows are counted, and objects are read whether or not the table
// knows them.
func HandOver(ctx context.Context, l Request, t *table.Table, b run.Budget, receive Receiver) (*write.Handing, error) {
	all := write.Tolerance{Percent: 100, Share: true}
	l.Again, l.DryRun, l.Tolerate, l.Misfits = true, true, all, all
	l.Merge, l.KeyStated = Merge{}, false
	if err := l.Resolve(ctx); err != nil {
		return nil, err
	}
	l.Into = t.Name
	if err := l.withChecks(ctx); err != nil {
		return nil, err
	}
	for i := range l.Checks {
		// Rows that break a rule are there, unless it has them quarantined.
		if l.Checks = slices.Clone(l.Checks); l.Checks[i].Policy == check.Stop {
			l.Checks[i].Policy = check.Tell
		}
	}
	part, err := l.partInto(t.Name)
	if err != nil {
		return nil, err
	}
	data, err := infer.Survey(ctx, &part.Reading, b)
	if err != nil {
		return nil, err
	}
	f := appending{Request: part, data: data, table: t, budget: b, started: time.Now()}
	f.held = func(of *write.Output) (write.Sink, error) { return receive(of, data.Inputs, f.absent(of.Schema)) }
	done, err := f.run(ctx)
	return write.NewHanding(data, part.Task, b, done), err
}

// ByKey reports whether rows are held against the table by their key.
func (l Request) ByKey() bool { return l.Mode.byKey() }

// LedgerURI is what the ledger knows an object by.
func LedgerURI(o locate.Object) string { return uriOf(o) }

// partInto is the load into one of the tables that the load goes to.
func (l Request) partInto(name table.Name) (Request, error) {
	if len(l.Splits) == 0 {
		l.Into = name
		return l, nil
	}
	if slices.ContainsFunc(l.Splits, func(s Split) bool { return s.Into.String() == name.String() }) {
		// Where the records go to does not matter to who asks for a list of theirs.
		l.Into = table.Name{}
	}
	parts, err := l.parts()
	if err != nil {
		return l, err
	}
	var known []string
	for _, part := range parts {
		if part.Into.String() == name.String() {
			return part, nil
		}
		known = append(known, part.Into.String())
	}
	return l, fault.New(fault.Usage, "the load does not go to the table %s", name).Try("name one of %s", schema.Some(known))
}

// KeyColumns are the columns of a key that is stated, of the table's own, or of the last load that held its rows against the table by one;
// nil for none.
func (l Request) KeyColumns(t *table.Table) ([]string, error) {
	if len(l.Corrections.Key) == 0 && len(t.Schema.Key) == 0 {
		return t.MergedBy(), nil
	}
	l.Into = t.Name
	return l.keyOf(t.Schema)
}
