package write

// Merged is what became of the rows of a load that changes the rows of its table.
type Merged struct {
	// Mode is replace, upsert or missing.
	Mode string
	MergeCounts
	// Outcome is what came of the rows of the table that made way.
	Outcome
}

// MergeCounts is what became of rows that were held against a table by their key. All that were taken are in one of them.
type MergeCounts struct {
	// Inserted have a key that the table did not have, Updated took the place of others, and Unchanged are as the table has them.
	Inserted, Updated, Unchanged int64
	// Deleted are marks of a delete that met a row, Unmet those that met none.
	Deleted, Unmet int64
	// Known have a key that the table has, which is left alone; Older were behind what the table has.
	Known, Older int64
	// Superseded had a key that another row of the same load has too.
	Superseded int64
	// Repeated counts the keys that the table had more than once.
	Repeated int64
}

// All is how many rows there were.
func (c MergeCounts) All() int64 {
	return c.Inserted + c.Updated + c.Unchanged + c.Deleted + c.Unmet + c.Known + c.Older + c.Superseded
}

// Outcome is what taking rows out of a table came to.
type Outcome struct {
	// Rows are gone from Files of the table, where deletes that were there already may count among those of whole files.
	Rows  int64
	Files int
	// As is the way in which they were taken out of files that keep others, and Why it was that. To write the files anew is about Copied
	// bytes of rows that stay, besides Added of new ones.
	As            string
	Why           Reason
	Copied, Added int64
	// Dropped files went as a whole, Rewritten were written anew without the rows, DeleteFiles were added.
	Dropped, Rewritten, DeleteFiles int
}

// Reason is why rows are taken out of files in one way and not in the other.
type Reason string

// The way was asked for; it is the only one that is written for the version of the table format; it writes less, or little.
const (
	Asked    Reason = "asked for"
	Version  Reason = "format version"
	Weighing Reason = "weighed"
)
