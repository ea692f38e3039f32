package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/ledger"
	"trevak/internal/locate"
	"trevak/internal/run"
	"trevak/internal/schema"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/write"
)

// Adopted is what came of an adoption.
type Adopted struct {
	Table       string
	Created     bool
	Files       int
	Rows, Bytes int64
	Partitions  int
	PartitionBy string
	Known       write.Known
	Drift       []schema.Difference
	SnapshotID  int64
	DryRun      bool
	Seconds     float64
}

// candidate is a Parquet file that is to be adopted.
type candidate struct {
	object locate.Object
	schema schema.Schema
	rows   int64
	parts  []layout.NamedPart
}

// Adopt makes Parquet files part of a table where they lie. Folders above them that are written name=value become partition values.
func Adopt(ctx context.Context, l Request, b run.Budget) (*Adopted, error) {
	if err := l.passOverKnown(ctx); err != nil {
		return nil, err
	}
	if err := l.Resolve(ctx); err != nil {
		return nil, err
	}
	for tries := 1; ; tries++ {
		out, err := l.adopt(ctx, b)
		if !errors.Is(err, table.ErrChanged) || tries == mostTries {
			return out, err
		}
	}
}

func (l Request) adopt(ctx context.Context, b run.Budget) (*Adopted, error) {
	started := time.Now()
	existing, err := l.Warehouse.Load(ctx, l.Into)
	if err == nil {
		err = l.Warehouse.MayWrite(ctx, l.Into, existing)
	}
	if err != nil {
		return nil, err
	}
	l.Changed = ChangedRefuse
	known, counts, none, err := l.onlyNew(ctx, existing)
	if err != nil {
		return nil, err
	}
	objects, _ := l.Found()
	out := &Adopted{Table: l.Into.String(), Known: counts, DryRun: l.DryRun}
	if none || len(objects) == 0 {
		out.Seconds = time.Since(started).Seconds()
		return out, nil
	}
	files, err := l.candidates(ctx, objects, b)
	if err != nil {
		return nil, err
	}
	a, drift, err := l.adopting(existing, files)
	if err != nil {
		return nil, err
	}
	data, err := l.describeAdopted(ctx, a, files, b)
	if err != nil {
		return nil, err
	}
	out.Created, out.Drift, out.Files, out.PartitionBy = existing == nil, drift, len(files), a.Spec.String()
	partitions := map[string]bool{}
	for _, f := range data {
		out.Rows, out.Bytes = out.Rows+f.Summary.Rows, out.Bytes+f.Summary.Bytes
		partitions[fmt.Sprintf("%v", f.Values)] = true
	}
	if len(a.Spec) > 0 {
		out.Partitions = len(partitions)
	}
	if !l.DryRun {
		w := pending{known: known, load: a, fixed: adoptedEntries(files)}
		a.Ledger, a.Operation, a.Told = w.record, "adopt", l.told(len(files))
		s, err := a.Commit(ctx, data)
		if err != nil {
			a.Rollback()
			return nil, err
		}
		out.SnapshotID = s.ID
	}
	out.Seconds = time.Since(started).Seconds()
	return out, nil
}

// candidates looks into the files, side by side.
func (l Request) candidates(ctx context.Context, objects []locate.Object, b run.Budget) ([]candidate, error) {
	out := make([]candidate, len(objects))
	home := l.Warehouse.Dir()
	var mutex sync.Mutex
	schemas := map[string]schema.Schema{} // of which there are few, however many files there are
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(1, b.Workers))
	for i, o := range objects {
		work.Go(func() error {
			no := func(why, way string) error { return fault.New(fault.Input, "%s", why).In(o.Location).Try("%s", way) }
			uri := o.Canonical()
			switch {
			case !o.AtHand() || storage.Scheme(uri) != "":
				return no("cannot be part of a table where it lies: tables name files on the disk", "save it to a file first, or load it")
			case strings.ContainsAny(uri, "#?"):
				return no("has # or ? in its path, which readers of tables take for parts of a URL", "give it another name, or load it")
			}
			if rel, ok := storage.Rel(home, uri); ok && !strings.HasPrefix(rel, "..") {
				return no("lies in the warehouse, where files belong to tables already", "adopt files that lie elsewhere")
			}
			f, err := columnar.Open(ctx, l.Store, uri)
			if err != nil {
				return err
			}
			defer f.Close()
			if !f.IsParquet() {
				return no("is no Parquet file", "load it instead")
			}
			if path := f.Unsigned(); path != "" {
				e := fault.New(fault.Schema, "has numbers without a sign, which readers of tables take for others").In(o.Location).
					Try("load it instead")
				e.Column = path
				return e
			}
			text := f.Schema.Arrow().String() + fmt.Sprint(f.Schema.LastID())
			mutex.Lock()
			defer mutex.Unlock()
			if _, ok := schemas[text]; !ok {
				schemas[text] = f.Schema
			}
			out[i] = candidate{object: o, schema: schemas[text], rows: f.Rows(), parts: layout.NamedParts(uri)}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return nil, err
	}
	return out, sameFolders(out)
}

// sameFolders refuses files whose folders name other partition fields than those of the first.
func sameFolders(files []candidate) error {
	names := func(c candidate) (out []string) {
		for _, p := range c.parts {
			out = append(out, p.Column)
		}
		return out
	}
	for _, c := range files {
		if !slices.Equal(names(c), names(files[0])) {
			return fault.New(fault.Schema, "lies in folders for %s, and %s in folders for %s", orNone(names(c)), files[0].object.Location,
				orNone(names(files[0]))).In(c.object.Location).Try("adopt them into tables of their own")
		}
	}
	return nil
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "no partition field"
	}
	return strings.Join(names, ", ")
}

// adopting begins the load of the files: into a table that comes into being, or one that grows.
func (l Request) adopting(existing *table.Table, files []candidate) (a *table.Append, drift []schema.Difference, err error) {
	batch, err := united(files)
	if err != nil {
		return nil, nil, err
	}
	var fields []string
	for _, p := range files[0].parts {
		fields = append(fields, p.Column)
	}
	if existing == nil {
		spec, err := layout.ParseSpec(strings.Join(fields, ","), batch)
		if len(fields) == 0 {
			spec, err = nil, nil
		}
		if err != nil {
			return nil, nil, err
		}
		if a, err = l.Warehouse.Create(l.Into, batch, spec, nil, columnar.Parquet); err != nil {
			return nil, nil, err
		}
	} else {
		if err := sameIdentities(existing, fields); err != nil {
			return nil, nil, err
		}
		next := existing.LastColumnID() + 1
		s, found := schema.Evolve(existing.Schema, batch, l.Corrections.Names, &next)
		s.Omission = schema.Omission{}
		s.Walk(func(_ string, f *schema.Field) { f.Demand = schema.Demand{} })
		for _, d := range found {
			if d.Kind == schema.Added || d.Kind == schema.Widened {
				drift = append(drift, d)
			}
		}
		if a, err = l.Warehouse.Append(existing, s); err != nil {
			return nil, nil, err
		}
		a.Cause = "adoption of " + files[0].object.Location
		for _, d := range drift {
			a.Changes = append(a.Changes, write.Sentence(d))
		}
	}
	a.Operation, a.Unsorted, a.Format = "adopt", true, columnar.Parquet
	return a, drift, agree(a.Schema, files)
}

// sameIdentities refuses folders that are not the table's partitioning.
func sameIdentities(t *table.Table, fields []string) error {
	var has []string
	for _, p := range t.Spec {
		if p.Name != "identity" {
			has = append(has, p.String())
			continue
		}
		has = append(has, p.Column)
	}
	same := len(has) == len(fields)
	for i := range has {
		same = same && strings.EqualFold(has[i], fields[i])
	}
	if !same {
		return fault.New(fault.Schema, "the table %s is partitioned by %s, and the files lie in folders for %s", t.Name, orNone(has),
			orNone(fields)).Try("load them instead, or adopt them into a table of their own")
	}
	return nil
}

// united is the columns of all files, with those that their folders name.
func united(files []candidate) (schema.Schema, error) {
	var s schema.Schema
	first := map[string]string{} // column, the file that it was first met in
	for _, c := range files {
		for _, f := range c.schema.Fields {
			if f.Name == table.OriginField.Name {
				continue
			}
			at := s.Index(f.Name)
			if at < 0 {
				first[f.Name] = c.object.Location
				f.Required = false
				s.Fields = append(s.Fields, f)
				continue
			}
			switch have := &s.Fields[at]; {
			case have.Type.Equal(f.Type) || schema.Promotes(f.Type, have.Type):
			case schema.Promotes(have.Type, f.Type):
				have.Type = f.Type
			default:
				return s, disagree(c, f, have.Type, first[f.Name])
			}
		}
	}
	for i, p := range files[0].parts {
		if s.Index(p.Column) >= 0 {
			continue
		}
		var texts []string
		for _, c := range files {
			if !c.parts[i].Null {
				texts = append(texts, c.parts[i].Text)
			}
		}
		s.Fields = append(s.Fields, schema.Field{Name: p.Column, Type: schema.Type{Kind: write.KindOf(texts)}})
	}
	names := make([]string, len(s.Fields))
	for i, f := range s.Fields {
		names[i] = f.Name
	}
	for i, name := range schema.SafeNames.Make(names) {
		if f := &s.Fields[i]; name != f.Name {
			f.Origin, f.Name = f.Name, name
		}
	}
	s.Walk(func(_ string, f *schema.Field) { f.ID = 0 })
	return s, nil
}

func disagree(c candidate, f schema.Field, other schema.Type, where string) error {
	e := fault.New(fault.Schema, "is %s here, and %s in %s", f.Type, other, where).In(c.object.Location).
		Try("adopt the files apart from each other, or load them: a load fits values to the table's types")
	e.Column = f.Name
	return e
}

// agree holds the files against the schema that the table is to have: readers find their columns by name, and take them as they are.
func agree(s schema.Schema, files []candidate) error {
	for _, c := range files {
		for _, f := range c.schema.Fields {
			if f.Name == table.OriginField.Name {
				continue
			}
			at := slices.IndexFunc(s.Fields, func(o schema.Field) bool { return o.Name == f.Name || o.Origin == f.Name })
			if at < 0 {
				e := fault.New(fault.Schema, "is no column of the table by this name").In(c.object.Location).
					Try("load the file instead: a load matches names in any letter case")
				e.Column = f.Name
				return e
			}
			to := s.Fields[at]
			if !to.Type.Equal(f.Type) && !schema.Promotes(f.Type, to.Type) {
				return disagree(c, f, to.Type, "the table")
			}
			if f.ID != 0 && f.ID != to.ID {
				e := fault.New(fault.Schema, "has the field id %d in the file, by which readers would take it for another column of the table, "+
					"where it has %d", f.ID, to.ID).In(c.object.Location).Try("load the file instead")
				e.Column = f.Name
				return e
			}
		}
	}
	return nil
}

// describeAdopted makes the descriptions of the files out of their footers and their folders.
func (l Request) describeAdopted(ctx context.Context, a *table.Append, files []candidate, b run.Budget) ([]layout.DataFile, error) {
	ids := map[string]schema.Field{}
	a.Schema.Walk(func(path string, f *schema.Field) { ids[path] = *f })
	for _, f := range a.Schema.Fields {
		if f.Origin != "" {
			ids[f.Origin] = f
		}
	}
	out := make([]layout.DataFile, len(files))
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(max(1, b.Workers))
	for i, c := range files {
		work.Go(func() error {
			f, err := columnar.Open(ctx, l.Store, c.object.Canonical())
			if err != nil {
				return err
			}
			defer f.Close()
			d := layout.DataFile{URI: c.object.Canonical()}
			if d.Summary, err = f.Footing(func(path string) (int, schema.Type) { return ids[path].ID, ids[path].Type }); err != nil {
				return fmt.Errorf("reading the footer of %s: %w", c.object.Location, err)
			}
			if err := requiredIn(a.Schema, d.Summary, c); err != nil {
				return err
			}
			if d.Values, err = layout.Identities(a.Schema, c.parts); err != nil {
				return fault.New(fault.Schema, "its folder: %s", err).In(c.object.Location).Try("load the file instead")
			}
			out[i] = d
			return c.object.Unchanged(ctx)
		})
	}
	return out, work.Wait()
}

// requiredIn refuses a file that does not prove that it has a value in each row where the table requires one.
func requiredIn(s schema.Schema, m *columnar.Summary, c candidate) error {
	for _, f := range s.Fields {
		if !f.Required || slices.ContainsFunc(c.parts, func(p layout.NamedPart) bool { return strings.EqualFold(p.Column, f.Name) && !p.Null }) {
			continue
		}
		if have := m.Columns[f.ID]; have == nil || have.Nulls != 0 {
			e := fault.New(fault.Schema, "may be without a value in rows of the file, and the table requires it").In(c.object.Location).
				Try("load the file instead, or let the column be without a value")
			e.Column = f.Name
			return e
		}
	}
	return nil
}

// adoptedEntries are what an adoption puts into the ledger. Files are known by size and time of change, as they are not read for a hash.
func adoptedEntries(files []candidate) (out []ledger.Entry) {
	at := time.Now().UTC().Truncate(time.Microsecond)
	for _, c := range files {
		out = append(out, ledger.Entry{URI: uriOf(c.object), Size: c.object.Size, Modified: c.object.Modified, Records: c.rows,
			Rows: c.rows, At: at})
	}
	return out
}
