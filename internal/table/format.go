package table

import (
	"strings"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/columnar"
	"trevak/internal/fault"
)

// fileFormats are the formats that data files of tables have.
var fileFormats = map[columnar.Format]iceberg.FileFormat{columnar.Parquet: iceberg.ParquetFile, columnar.ORC: iceberg.OrcFile,
	columnar.Avro: iceberg.AvroFile}

// ParseFormat reads the name of a format that data files of tables have.
func ParseFormat(text string) (columnar.Format, error) {
	format := columnar.Format("." + text)
	if _, ok := fileFormats[format]; !ok {
		return "", fault.Unknown("format", text, "parquet", "orc", "avro")
	}
	return format, nil
}

// formatName is the name of a format as table properties have it.
func formatName(f columnar.Format) string { return strings.TrimPrefix(string(f), ".") }

// formatFrom reads the format of further files from the properties of a table; one that is not written here is taken for Parquet.
func formatFrom(properties iceberg.Properties) columnar.Format {
	if format, err := ParseFormat(strings.ToLower(properties[icetable.WriteFormatDefaultKey])); err == nil {
		return format
	}
	return columnar.Parquet
}
