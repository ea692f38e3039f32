package write

// Aligned tells where a column of a table comes from in a load.
type Aligned struct {
	Column string
	Type   string
	// Location is the first object that has the column, From its name there, FromType what it would be inferred as.
	Location string
	From     string
	FromType string
	// Action says what the load does: new column, takes, widens, stays null, passed over, filled by the load, or kept as misfits.
	Action string
}
