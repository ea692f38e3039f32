package table

import "trevak/internal/schema"

// OriginField is a column that data files have besides those of the table: a number for each row that tells which object it came of, as
// the ledger has it. No schema of a table has it, so that other readers pass it over as they do with columns that were dropped. Ids of
// columns never come near its own, and those that the Iceberg specification reserves begin above it ("Reserved Field IDs").
var OriginField = schema.Field{ID: 2_147_000_001, Name: "_trevak_origin", Type: schema.Type{Kind: schema.Long}}
