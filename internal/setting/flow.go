package setting

import "time"

// Flow is what a flow is asked to do, as it is written. What is left out is decided from the data, or is the usual.
type Flow struct {
	// Files are the sources.
	Files Repeated

	// What is said of how a source is read.
	FilesFrom      string
	MixedFiles     bool
	Timeout        time.Duration
	AllowExpansion bool
	Encoding       string
	Records        Joined
	XMLPrefixes    bool
	MixedContent   string
	MaxRecord      int
	MaxColumns     int
	MaxDepth       int
	Delimiter      string
	Quote          string
	Escape         string
	Comment        string
	Trim           bool
	SkipRows       int
	SkipBlankRows  bool
	JSONNumbers    string
	Geometry       string
	Unsure         string
	Widths         string
	Header         bool
	NoHeader       bool
	HeaderRows     int
	Columns        []string
	Ragged         string
	// Mask is the columns whose values are not told.
	Mask []string

	// What is said of records that fail, and of columns that are added.
	Lineage         bool
	KeepRaw         bool
	PartitionValues Repeated
	PathColumns     string
	Tolerate        string
	TolerateMisfits string
	Quarantine      string
	// QuarantineAs is plain, none, or the public key that quarantine files are sealed for.
	QuarantineAs string

	// What is said of how rows are laid out.
	Partition   string
	Sort        string
	FileSize    string
	RowGroup    string
	Codec       string
	PageVersion int
	Favor       string
	Bloom       []string

	// What is said of columns.
	Types       Repeated
	Renames     Repeated
	Only        []string
	Drop        []string
	Required    []string
	Key         []string
	Names       string
	Nulls       []string
	DecimalMark string
	Outvoted    string
	Scan        string

	// What is said of the form of rows.
	Where           string
	Nested          string
	PathSeparator   string
	FlattenDepth    int
	Lists           string
	Unnest          Repeated
	UnnestIndex     bool
	UnnestCount     bool
	UnnestEmpty     string
	ConfirmMultiply bool
	Nest            Repeated
	NestRows        string
	NestKey         string
	Derive          Repeated

	// What is said of the table that is loaded.
	Into   string
	Format string
	Drift  string
	Split  Repeated
	// What becomes of the rows that the table has.
	Mode        string
	Touching    bool
	NewestBy    string
	DeleteWhere string
	UpdateOnly  []string
	UpsertAs    string
	// Again and Changed say what becomes of objects that the table has taken in before.
	Again   bool
	Changed string
	// Checks are rules that rows must keep.
	Checks Repeated
	// Verify has what was written read back before the commit.
	Verify bool

	// stated are the flags that were stated, against those that a feed file says or that are left out.
	stated map[string]bool
}
