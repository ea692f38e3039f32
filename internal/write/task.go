package write

import (
	"context"

	"trevak/internal/check"
	"trevak/internal/infer"
	"trevak/internal/quarantine"
	"trevak/internal/table"
	"trevak/internal/weigh"
)

// Growth is where in an object reading begins: a byte offset and the line there, with how many records came before.
type Growth struct {
	From, Line, Records int64
	// Hash is that of the whole object.
	Hash string
}

// Task is what a run that writes rows is asked to do, wherever they go.
type Task struct {
	infer.Reading
	// Lineage adds columns that tell where each row came from; PathColumns is a template of columns in the objects' paths.
	Lineage     bool
	PathColumns string
	// ParentID adds a column that tells records apart: the object's location and the record's number in it.
	ParentID bool
	// KeepRaw adds a column with the record as it was read.
	KeepRaw bool
	// PartitionValues are columns with one value for the whole run, by which rows are partitioned.
	PartitionValues []PartitionValue
	// Grown are objects, by location, of which only what came behind an offset is read.
	Grown map[string]Growth
	// Favor is what codecs are chosen for where they are chosen by trial.
	Favor weigh.Favor
	// Tolerate is how many records may fail to become rows, and Quarantine the file they go to; empty for one named after the target.
	Tolerate   Tolerance
	Quarantine string
	// QuarantineFolder is where such a file lies that has no name of its own; empty for the working folder.
	QuarantineFolder string
	// QuarantineAs says how that file is kept.
	QuarantineAs quarantine.Seal
	// Misfits is how many values of a stated column may be misfits; the zero value allows none.
	Misfits Tolerance
	// Profile asks for the distribution of each column's values.
	Profile bool
	// Spread asks for the values and nulls of each column, and for its texts where they are few.
	Spread bool
	// Checks are rules that rows must keep, and FindTable finds the tables that they refer to.
	Checks    []check.Rule
	FindTable func(context.Context, table.Name) (*table.Table, error)
	// BadElsewhere says that the same records are kept elsewhere when they fail.
	BadElsewhere bool
}
