// Package magic has the bytes by which formats are recognised.
package magic

// The bytes that files begin with, Parquet and Arrow files end with too (Parquet specification, "File Format"; Arrow, "IPC File
// Format"; Avro, "Object Container Files"; ORC, "File Tail"; ZIP, "Local file header").
const (
	Parquet = "PAR1"
	Arrow   = "ARROW1"
	Avro    = "Obj\x01"
	ORC     = "ORC"
	Zip     = "PK\x03\x04"
)
