package table

import (
	"context"
	"fmt"
	"slices"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Grant is what a catalog, or where the files lie, tells of what who asks may do with a table.
type Grant struct {
	// Right is what may be done, On with what.
	Right, On string
	// Held is yes, no, or not told.
	Held Held
	// By says who tells it, and how it is called there.
	By string
}

// Held says whether a right is held.
type Held uint8

// Whether a right is held.
const (
	NotTold Held = iota
	Yes
	No
)

func (h Held) String() string { return [...]string{"not told", "yes", "no"}[h] }

func held(yes bool) Held {
	if yes {
		return Yes
	}
	return No
}

// Grants lists what is told of the rights to a table. Nothing is written to find them out.
func (w *Warehouse) Grants(ctx context.Context, t *Table) ([]Grant, error) {
	out := []Grant{{"read", "the description of the table", Yes, "it was read"}}
	var more []Grant
	var err error
	switch c := w.catalog.(type) {
	case *sqlCatalog:
		more, err = c.grants(ctx)
	case *service:
		more = c.wire.grants(t)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Storage, err, "the rights to table %s cannot be told", t.Name)
	}
	return append(append(out, more...), w.filesGrants(ctx, t)...), nil
}

// filesGrants tells of the files of a table.
func (w *Warehouse) filesGrants(ctx context.Context, t *Table) []Grant {
	folder := storage.Path(t.Location())
	list := Grant{"list", folder, NotTold, ""}
	if _, err := w.store.List(ctx, storage.Join(folder, "metadata")); err == nil {
		list.Held, list.By = Yes, "it was listed"
	} else {
		list.Held, list.By = No, err.Error()
	}
	write := Grant{"write", folder, NotTold, "stores tell that only when something is written"}
	if may, known := storage.MayWrite(folder); known {
		write.Held, write.By = held(may), "the system's permissions"
	}
	return []Grant{list, write}
}

// grants are the rights to the tables of the catalog in the database.
func (c *sqlCatalog) grants(ctx context.Context) ([]Grant, error) {
	rights := [][2]string{{"SELECT", "read tables"}, {"UPDATE", "commit to tables"}, {"INSERT", "make tables"}, {"DELETE", "drop tables"}}
	var out []Grant
	for _, r := range rights {
		g := Grant{r[1], "the catalog " + c.name, NotTold, "the database's right " + r[0] + " on iceberg_tables"}
		may, known, err := c.db.May(ctx, r[0], "iceberg_tables")
		if err != nil {
			return nil, c.db.Explain(err)
		}
		if known {
			g.Held = held(may)
		}
		out = append(out, g)
	}
	return out, nil
}

// requests are those by which the things are done that rights are needed for (Iceberg REST protocol, "CatalogConfig").
var requests = [][2]string{{"commit to the table", "POST /v1/{prefix}/namespaces/{namespace}/tables/{table}"},
	{"drop the table", "DELETE /v1/{prefix}/namespaces/{namespace}/tables/{table}"},
	{"make tables", "POST /v1/{prefix}/namespaces/{namespace}/tables"},
	{"register tables", "POST /v1/{prefix}/namespaces/{namespace}/register"}}

// grants are what the service says that it offers, and the credentials that it gave for the table's files.
func (w *wire) grants(t *Table) []Grant {
	w.mutex.Lock()
	offered := w.endpoints
	w.mutex.Unlock()
	var out []Grant
	for _, r := range requests {
		g := Grant{r[0], "the catalog", NotTold, "the service does not say what it offers"}
		if len(offered) > 0 {
			g.By = "not among the requests that the service offers"
			if g.Held = No; slices.Contains(offered, r[1]) {
				// Whether who asks may, is told when it is asked for.
				g.Held, g.By = NotTold, "the service offers it; whether it is granted is told with the answer"
			}
		}
		out = append(out, g)
	}
	if given, ok := w.vault.For(storage.Path(t.Location())); ok {
		until := "with no end that is told"
		if !given.Until.IsZero() {
			until = "until " + given.Until.UTC().Format(time.RFC3339)
		}
		out = append(out, Grant{"reach files", given.Prefix, Yes, fmt.Sprintf("the catalog gave credentials for them, %s", until)})
	}
	return out
}
