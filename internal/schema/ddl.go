package schema

import (
	"fmt"
	"strings"
)

// DDL writes a CREATE TABLE statement in standard SQL (ISO/IEC 9075-2) for a schema. Texts get the longest length that was seen,
// in characters, and a length of 1 where none was; nested columns become rows, arrays, and multisets of key and value.
func DDL(name string, s Schema) string {
	var b strings.Builder
	fmt.Fprintf(&b, "CREATE TABLE %s (\n", qualified(name))
	for i, f := range s.Fields {
		fmt.Fprintf(&b, "    %s %s", identifier(f.Name), sqlType(f))
		if f.Required {
			b.WriteString(" NOT NULL")
		}
		if i < len(s.Fields)-1 || len(s.Key) > 0 {
			b.WriteByte(',')
		}
		if f.Doc != "" {
			fmt.Fprintf(&b, " -- %s", strings.Join(strings.Fields(f.Doc), " "))
		}
		b.WriteByte('\n')
	}
	if len(s.Key) > 0 {
		quoted := make([]string, len(s.Key))
		for i, k := range s.Key {
			quoted[i] = identifier(k)
		}
		fmt.Fprintf(&b, "    PRIMARY KEY (%s)\n", strings.Join(quoted, ", "))
	}
	b.WriteString(");\n")
	return b.String()
}

// identifier writes a name as it stands, letter case included.
func identifier(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func qualified(name string) string {
	parts := strings.Split(name, ".")
	for i, p := range parts {
		parts[i] = identifier(p)
	}
	return strings.Join(parts, ".")
}

var sqlTypes = map[Kind]string{Boolean: "BOOLEAN", Int: "INTEGER", Long: "BIGINT", Float: "REAL", Double: "DOUBLE PRECISION",
	Date: "DATE", Time: "TIME(6)",
	Timestamp: "TIMESTAMP(6)", TimestampTz: "TIMESTAMP(6) WITH TIME ZONE", TimestampNs: "TIMESTAMP(9)",
	TimestampTzNs: "TIMESTAMP(9) WITH TIME ZONE", UUID: "CHAR(36)", Binary: "BINARY LARGE OBJECT"}

func sqlType(f Field) string {
	switch t := f.Type; t.Kind {
	case Decimal:
		return fmt.Sprintf("DECIMAL(%d, %d)", t.Precision, t.Scale)
	case String:
		return fmt.Sprintf("VARCHAR(%d)", max(1, f.Longest))
	case Struct:
		parts := make([]string, len(t.Fields))
		for i, part := range t.Fields {
			parts[i] = identifier(part.Name) + " " + sqlType(part)
		}
		return "ROW(" + strings.Join(parts, ", ") + ")"
	case List:
		return sqlType(*t.Element) + " ARRAY"
	case Map:
		return fmt.Sprintf("ROW(%s %s, %s %s) MULTISET", identifier(KeyName), sqlType(*t.Key), identifier(ValueName), sqlType(*t.Element))
	default:
		return sqlTypes[t.Kind]
	}
}
