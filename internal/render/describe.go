package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"trevak/internal/columnar"
	"trevak/internal/inspect"
	"trevak/internal/schema"
)

// Tables writes a line for each table.
func Tables(s Screen, warehouse string, list []*inspect.TableInfo) {
	if len(list) == 0 {
		s.Printf("No table in %s yet. Make one with: trevak load SOURCE --into namespace.table\n", warehouse)
		return
	}
	t := Table{Header: []string{"table", "rows", "files", "size", "partitioned by", "last commit"},
		Right: []bool{false, true, true, true}, Keep: true}
	for _, info := range list {
		if info.Error != nil {
			t.Rows = append(t.Rows, []string{info.Name, "unreadable", "", "", "", ""})
			continue
		}
		t.Rows = append(t.Rows, []string{info.Name, Number(info.Rows) + deleted(info), Number(int64(info.Files)), Size(info.Bytes),
			orDash(info.Partitioning), minute(info.LastCommit)})
	}
	t.Write(s)
	some := false
	for _, info := range list {
		if info.Error != nil {
			s.Printf("\n%s\n", Wrap("unreadable: "+info.Name+": "+info.Error.Error(), s.Width))
		}
		some = some || info.Open
	}
	if some {
		s.Printf("\n* and fewer: some rows are deleted by files of their own\n")
	}
}

// rowsThere is how many rows a table has, as far as its metadata tells.
func rowsThere(info *inspect.TableInfo) string {
	if info.Open {
		return "fewer than " + Number(info.Rows) + ", as some are deleted by files of their own"
	}
	return Number(info.Rows)
}

// deleted marks a count of rows of which some are deleted.
func deleted(info *inspect.TableInfo) string {
	if info.Open {
		return "*"
	}
	return ""
}

func orDash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

func instant(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return t.UTC().Format("2006-01-02 15:04:05Z")
}

// minute is an instant without its seconds.
func minute(t *time.Time) string {
	if t == nil {
		return "-"
	}
	return t.UTC().Format("2006-01-02 15:04Z")
}

// snapshotsShown bounds how many states of a table are listed.
const snapshotsShown = 10

// TableInfo writes everything about one table.
func TableInfo(s Screen, info *inspect.TableInfo) {
	s.Printf("%s\n", s.Bold(info.Name))
	files := fmt.Sprintf("%s of %s", Count(info.Files, "file", "files"), Size(info.Bytes))
	if taken := columnBytes(info); taken > 0 {
		files += "; columns take " + Size(taken)
	}
	if info.RawBytes > 0 {
		files += fmt.Sprintf(", %s before compression", Size(info.RawBytes))
	}
	var state []fact
	if info.State != nil {
		state = []fact{{name: "as it was", value: fmt.Sprintf("snapshot %d of %s", info.State.ID, instant(&info.State.Committed))}}
		if info.Branch != "" {
			state[0].name = "on branch"
			state[0].value = info.Branch + ", " + state[0].value
		}
	}
	s.facts(append(state, []fact{
		{name: "location", value: info.Location},
		{name: "format", value: fmt.Sprintf("Iceberg version %d", info.FormatVersion) + fileFormats(info.Formats)},
		{name: "rows", value: rowsThere(info)},
		{name: "files", value: files},
		{name: "partitioned by", value: orDash(info.Partitioning)},
		{name: "sorted by", value: orDash(info.Sort)},
	}...))
	s.Printf("\n")
	if info.FilesExamined < info.Files {
		s.Printf("  Sizes below are those of the first %s files.\n\n", Number(int64(info.FilesExamined)))
	}
	renamed := slices.ContainsFunc(info.Columns, func(c inspect.ColumnInfo) bool { return c.Origin != "" })
	t := Table{Header: []string{"column", "id", "type", "required", "longest", "compressed", "raw", "codec", "encodings"},
		Right: []bool{false, true, false, false, true, true, true}, Keep: true}
	if renamed {
		t.Header = append(t.Header, "in the source")
	}
	for _, c := range info.Columns {
		required := ""
		if c.Required {
			required = "yes"
		}
		longest := ""
		if c.Longest > 0 {
			longest = Number(int64(c.Longest))
		}
		cells := []string{strings.Repeat("  ", c.Depth) + c.Name, fmt.Sprint(c.ID), c.Type, required, longest, orDash(count(c.Bytes)),
			orDash(count(c.RawBytes)),
			strings.Join(c.Codecs, ", "), strings.Join(c.Encodings, ", ")}
		if renamed {
			cells = append(cells, c.Origin)
		}
		t.Rows = append(t.Rows, cells)
	}
	t.Write(s)
	s.Printf("\n")
	snapshots(s, info.Snapshots)
}

// fileFormats tells in which formats data files are.
func fileFormats(formats []string) string {
	if len(formats) == 0 {
		return ""
	}
	names := make([]string, len(formats))
	for i, f := range formats {
		names[i] = map[string]string{"parquet": "Parquet", "orc": "ORC", "avro": "Avro"}[f]
	}
	return ", " + strings.Join(names, " and ") + " files"
}

// columnBytes adds up the compressed columns.
func columnBytes(info *inspect.TableInfo) int64 {
	var n int64
	for _, c := range info.Columns {
		if c.Depth == 0 {
			n += c.Bytes
		}
	}
	return n
}

func snapshots(s Screen, list []inspect.SnapshotInfo) {
	t := Table{Header: []string{"snapshot", "committed", "operation", "rows added", "files added", "rows then"},
		Right: []bool{true, false, false, true, true, true}}
	for _, snap := range list[:min(len(list), snapshotsShown)] {
		then := Number(snap.Rows)
		if snap.Open {
			then = "open"
		}
		t.Rows = append(t.Rows, []string{fmt.Sprint(snap.ID), instant(&snap.Committed), snap.Operation, Number(snap.AddedRows),
			Number(snap.AddedFiles), then})
	}
	t.Write(s)
	if more := len(list) - snapshotsShown; more > 0 {
		s.Printf("%s before these\n", Count(more, "snapshot", "snapshots"))
	}
}

// FileInfo writes how a columnar file is built.
func FileInfo(s Screen, l columnar.Layout, sc schema.Schema) {
	s.Printf("%s\n", s.Bold(l.Location))
	var raw int64
	for _, g := range l.Groups {
		raw += g.RawBytes
	}
	keys := make([]string, 0, len(l.Keys))
	for k, n := range l.Keys {
		keys = append(keys, fmt.Sprintf("%s (%s)", k, Size(int64(n))))
	}
	slices.Sort(keys)
	part, size := "row group", Size(l.Bytes)+" in the file"
	switch {
	case l.Format == "ORC":
		part = "stripe"
	case raw > 0:
		size += ", " + Size(raw) + " raw"
	}
	writer := ""
	if l.CreatedBy != "" {
		writer = ", written by " + l.CreatedBy
	}
	s.facts([]fact{
		{name: "format", value: strings.TrimSpace(l.Format+" "+l.Version) + writer},
		{name: "rows", value: fmt.Sprintf("%s in %s", Number(l.Rows), Count(len(l.Groups), part, part+"s"))},
		{name: "size", value: size},
		{name: "metadata keys", value: orDash(strings.Join(keys, ", "))},
	})
	s.Printf("\n")
	t := Table{Header: []string{"column", "id", "type", "stored as", "values", "nulls", "smallest", "largest", "pages", "compressed",
		"raw", "codec", "encodings"},
		Right: []bool{false, true, false, false, true, true, false, false, true, true, true}, Keep: true}
	types := leafKinds(sc)
	for i, c := range l.Columns {
		kind := ""
		if i < len(types) {
			kind = types[i].String()
		}
		t.Rows = append(t.Rows, []string{c.Path, orDash(number(c.ID)), kind, c.Type, Number(c.Values), Number(c.Nulls),
			cut(c.Smallest, longestExtreme), cut(c.Largest, longestExtreme),
			orDash(number(int(c.Pages))), orDash(count(c.Bytes)), orDash(count(c.RawBytes)), orDash(strings.Join(c.Codecs, ", ")),
			orDash(encodings(c))})
	}
	t.Write(s)
}

// encodings lists a column's encodings, and whether it has Bloom filters.
func encodings(c columnar.ColumnLayout) string {
	list := c.Encodings
	if c.Bloom {
		list = append(slices.Clone(list), "bloom filter")
	}
	return strings.Join(list, ", ")
}

// count writes a number with its thousands set apart, nothing for 0.
func count(n int64) string {
	if n == 0 {
		return ""
	}
	return Number(n)
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// leafKinds lists the types of the leaf columns in the order of a file.
func leafKinds(sc schema.Schema) (out []schema.Type) {
	sc.Walk(func(_ string, f *schema.Field) {
		if !f.Type.Nested() {
			out = append(out, f.Type)
		}
	})
	return out
}
