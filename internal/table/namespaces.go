package table

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"trevak/internal/fault"
	"trevak/internal/locate"
	"trevak/internal/storage"
)

// Namespace is a name that tables, and other namespaces, begin with.
type Namespace struct {
	Name string
	// Tables are how many there are in it, Nested how many namespaces, both without what lies deeper.
	Tables, Nested int
}

// namespaceMark is the file by which a namespace is there that has no table yet.
const namespaceMark = ".namespace"

// parseNamespace reads the name of a namespace, which has the parts of a table's name.
func parseNamespace(text string) ([]string, error) {
	name, err := ParseName(text + ".t")
	if err != nil {
		return nil, fault.New(fault.Usage, "%q cannot be the name of a namespace", text).
			Try("use letters a to z, digits, _ and -, with points between its parts")
	}
	return name.parts[:len(name.parts)-1], nil
}

// Namespaces lists the namespaces in order.
func (w *Warehouse) Namespaces(ctx context.Context) ([]Namespace, error) {
	names, err := w.Names(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]*Namespace{}
	add := func(parts []string) {
		for n := 1; n <= len(parts); n++ {
			name := strings.Join(parts[:n], ".")
			if found[name] == nil {
				found[name] = &Namespace{Name: name}
				if n > 1 {
					found[strings.Join(parts[:n-1], ".")].Nested++
				}
			}
		}
	}
	for _, name := range names {
		if parts := name.parts[:len(name.parts)-1]; len(parts) > 0 {
			add(parts)
			found[strings.Join(parts, ".")].Tables++
		}
	}
	if w.keeper != nil {
		err = w.keeper.eachNamespace(ctx, nil, func(parts []string) error {
			add(parts)
			return nil
		})
	} else {
		err = w.marked(ctx, add)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the namespaces of the warehouse %s cannot be listed", w.dir)
	}
	var out []Namespace
	for _, n := range found {
		out = append(out, *n)
	}
	slices.SortFunc(out, func(a, b Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// marked adds the namespaces that are there without a table.
func (w *Warehouse) marked(ctx context.Context, add func(parts []string)) error {
	return storage.Walk(ctx, w.store, w.dir, func(e storage.Entry, err error) error {
		switch {
		case err != nil && e.URI == w.dir && errors.Is(err, fs.ErrNotExist):
			return storage.SkipAll
		case err != nil:
			return storage.SkipFolder
		case e.Kind != storage.Folder && e.Name == namespaceMark:
			if rel, ok := storage.Rel(w.dir, storage.Dir(e.URI)); ok && rel != "." {
				add(strings.Split(rel, "/"))
			}
		case e.Kind == storage.Folder && (strings.HasPrefix(e.Name, ".") || locate.IsTable(ctx, w.store, e.URI)):
			return storage.SkipFolder
		}
		return nil
	})
}

// CreateNamespace makes a namespace, and those that it lies in. It reports whether it was not there before.
func (w *Warehouse) CreateNamespace(ctx context.Context, text string) (made bool, err error) {
	parts, err := parseNamespace(text)
	if err != nil {
		return false, err
	}
	for n := 1; n <= len(parts) && w.keeper == nil; n++ {
		if locate.IsTable(ctx, w.store, storage.Join(w.dir, parts[:n]...)) {
			return false, fault.New(fault.Usage, "%s is a table, and holds no namespace", strings.Join(parts[:n], ".")).
				Try("choose another name")
		}
	}
	err = w.locked(ctx, func() error {
		there, err := w.Namespaces(ctx)
		if err != nil || slices.ContainsFunc(there, func(n Namespace) bool { return n.Name == text }) {
			return err
		}
		made = true
		if w.keeper != nil {
			return w.keeper.makeNamespace(ctx, parts)
		}
		for n := 1; n <= len(parts) && err == nil; n++ {
			if name := strings.Join(parts[:n], "."); !slices.ContainsFunc(there, func(n Namespace) bool { return n.Name == name }) {
				err = storage.WriteAll(ctx, w.store, storage.Join(storage.Join(w.dir, parts[:n]...), namespaceMark), nil, durable)
			}
		}
		return fault.Wrap(fault.Storage, err, "the namespace %s cannot be made", text)
	})
	return made, err
}

// DropNamespace ends a namespace that holds nothing.
func (w *Warehouse) DropNamespace(ctx context.Context, text string) error {
	parts, err := parseNamespace(text)
	if err != nil {
		return err
	}
	return w.locked(ctx, func() error {
		there, err := w.Namespaces(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(there, func(n Namespace) bool { return n.Name == text })
		if at < 0 {
			var known []string
			for _, n := range there {
				known = append(known, n.Name)
			}
			return fault.New(fault.Storage, "there is no namespace %s in the warehouse %s", text, w.dir).Try("%s", someOf(known))
		}
		if n := there[at]; n.Tables+n.Nested > 0 {
			return fault.New(fault.Usage, "the namespace %s holds %d tables and %d namespaces", text, n.Tables, n.Nested).
				Try("drop these first, or give them another place")
		}
		if w.keeper != nil {
			return w.keeper.dropNamespace(ctx, parts)
		}
		folder := storage.Join(w.dir, parts...)
		if err := w.store.Remove(ctx, storage.Join(folder, namespaceMark)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.Wrap(fault.Storage, err, "the namespace %s cannot be dropped", text)
		}
		w.removeEmpty(ctx, folder)
		if err := w.store.Remove(ctx, folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Storage, "the namespace %s is none any more, but its folder %s holds other files and stays", text, folder).
				Try("look at them; this program does not remove what it did not write")
		}
		return nil
	})
}

// removeEmpty removes the folders within one that hold nothing, as tables leave them that were dropped.
func (w *Warehouse) removeEmpty(ctx context.Context, folder string) {
	var list []string
	_ = storage.Walk(ctx, w.store, folder, func(e storage.Entry, err error) error {
		if err == nil && e.Kind == storage.Folder {
			list = append(list, e.URI)
		}
		return err
	})
	slices.SortFunc(list, func(a, b string) int { return len(b) - len(a) })
	for _, dir := range list {
		// One that is not empty stays.
		_ = w.store.Remove(ctx, dir)
	}
}

func someOf(known []string) string {
	if len(known) == 0 {
		return "it holds none"
	}
	return "it holds " + strings.Join(known, ", ")
}
