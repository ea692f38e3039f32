package table

import (
	"context"
	"slices"
	"strings"

	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
)

// names lists the tables.
func (c *sqlCatalog) names(ctx context.Context) (out []Name, err error) {
	pairs, err := c.pairs(ctx, `SELECT table_namespace, table_name FROM iceberg_tables WHERE catalog_name = $1`, true)
	for _, p := range pairs {
		out = append(out, Name{append(strings.Split(p[0], "."), p[1])})
	}
	return out, err
}

// pairs runs a query for two texts a row; ofTables restricts it to the rows of tables.
func (c *sqlCatalog) pairs(ctx context.Context, text string, ofTables bool) (out [][2]string, err error) {
	err = c.ask(ctx, func() error {
		out = nil
		text := text
		if ofTables {
			text += c.rows()
		}
		rows, err := c.conn().QueryContext(ctx, c.db.Query(text), c.name)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var p [2]string
			if err := rows.Scan(&p[0], &p[1]); err != nil {
				return err
			}
			out = append(out, p)
		}
		return rows.Err()
	})
	return out, c.db.Explain(err)
}

func (c *sqlCatalog) eachNamespace(ctx context.Context, _ icetable.Identifier, visit func(parts []string) error) error {
	pairs, err := c.pairs(ctx, `SELECT DISTINCT namespace, '' FROM iceberg_namespace_properties WHERE catalog_name = $1`, false)
	if err != nil {
		return err
	}
	slices.SortFunc(pairs, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
	for _, p := range pairs {
		if err := visit(strings.Split(p[0], ".")); err != nil {
			return err
		}
	}
	return nil
}

// makeNamespace makes a namespace and those that it lies in. One is there when it has a property (as Iceberg's libraries have it).
func (c *sqlCatalog) makeNamespace(ctx context.Context, parts []string) error {
	for n := 1; n <= len(parts); n++ {
		err := c.ask(ctx, func() error {
			_, err := c.conn().ExecContext(ctx, c.db.Query(`INSERT INTO iceberg_namespace_properties
				(catalog_name, namespace, property_key, property_value) VALUES ($1, $2, 'exists', 'true') ON CONFLICT DO NOTHING`),
				c.name, strings.Join(parts[:n], "."))
			return err
		})
		if err != nil {
			return fault.Wrap(fault.Storage, c.db.Explain(err), "the namespace %s cannot be made", Name{parts[:n]})
		}
	}
	return nil
}

func (c *sqlCatalog) dropNamespace(ctx context.Context, parts []string) error {
	err := c.ask(ctx, func() error {
		_, err := c.conn().ExecContext(ctx, c.db.Query(`DELETE FROM iceberg_namespace_properties WHERE catalog_name = $1 AND namespace = $2`),
			c.name, strings.Join(parts, "."))
		return err
	})
	return fault.Wrap(fault.Storage, c.db.Explain(err), "the namespace %s cannot be dropped", Name{parts})
}
