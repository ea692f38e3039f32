package sniff

// Columnar reports whether objects of a format are columnar files, which bring their schema with them.
func (f Format) Columnar() bool { return f.Family() == Parquet }

// Family returns one of the formats that one run can read together with a format.
func (f Format) Family() Format {
	switch f {
	case JSONLines, XML, Sheet:
		return JSON
	case Arrow, Avro, ORC:
		return Parquet
	}
	return f
}
