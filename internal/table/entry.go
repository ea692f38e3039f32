package table

import (
	"fmt"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/columnar"
	"trevak/internal/layout"
)

// describeFiles describes the files of a change with rows for the manifest.
func describeFiles(base *icetable.Table, c Change) ([]iceberg.DataFile, error) {
	row := int64(-1)
	if base.Metadata().Version() >= 3 {
		row = base.Metadata().NextRowID()
	}
	var out []iceberg.DataFile
	for _, f := range c.Add {
		b, err := entry(base.Spec(), iceberg.EntryContentData, formatOf(f.URI, c.Format), f, partitionValues(base.Spec(), f.Values))
		if err != nil {
			return nil, fmt.Errorf("describing %s: %w", f.URI, err)
		}
		b.SortOrderID(c.Order)
		if row >= 0 {
			b.FirstRowID(row)
			row += f.Summary.Rows
		}
		out = append(out, b.Build())
	}
	return out, nil
}

// formatOf is the format that the ending of a file says, or else the one that files usually have.
func formatOf(uri string, usual columnar.Format) columnar.Format {
	f, ok := columnar.FormatOf(uri)
	if _, known := fileFormats[f]; ok && known {
		return f
	}
	return usual
}

// describeDeletes describes the files of a change with deletes.
func describeDeletes(base *icetable.Table, c Change) ([]iceberg.DataFile, error) {
	var out []iceberg.DataFile
	for _, f := range c.Deletes {
		content := iceberg.EntryContentPosDeletes
		if len(f.Equal) > 0 {
			content = iceberg.EntryContentEqDeletes
		}
		spec, values := base.Spec(), map[int]any(nil)
		if f.Of == nil {
			values = partitionValues(spec, f.Values)
		} else {
			of := base.Metadata().PartitionSpecByID(int(f.Of.entry.SpecID()))
			if of == nil {
				return nil, fmt.Errorf("%s is of a partitioning that the table does not have", f.Of.URI)
			}
			spec, values = *of, f.Of.entry.Partition()
		}
		b, err := entry(spec, content, c.Format, f.DataFile, values)
		if err != nil {
			return nil, fmt.Errorf("describing %s: %w", f.URI, err)
		}
		if f.Only {
			b.ReferencedDataFile(f.Of.entry.FilePath())
		}
		if len(f.Equal) > 0 {
			b.EqualityFieldIDs(f.Equal)
		}
		out = append(out, b.Build())
	}
	return out, nil
}

// entry begins the description of a file in a partition, with its sizes, counts and bounds.
func entry(spec iceberg.PartitionSpec, content iceberg.ManifestEntryContent, format columnar.Format,
	f layout.DataFile, partition map[int]any) (*iceberg.DataFileBuilder, error) {
	b, err := iceberg.NewDataFileBuilder(spec, content, f.URI, fileFormats[format], partition, nil, nil, f.Summary.Rows, f.Summary.Bytes)
	if err != nil {
		return nil, err
	}
	sizes, values, nulls, nans := map[int]int64{}, map[int]int64{}, map[int]int64{}, map[int]int64{}
	lower, upper := map[int][]byte{}, map[int][]byte{}
	for id, m := range f.Summary.Columns {
		if values[id] = m.Values; m.Nulls >= 0 {
			nulls[id] = m.Nulls
		}
		if m.Bytes > 0 {
			sizes[id] = m.Bytes
		}
		if m.Floating {
			nans[id] = m.NaNs
		}
		if m.Lower != nil {
			lower[id] = m.Lower
		}
		if m.Upper != nil {
			upper[id] = m.Upper
		}
	}
	b.ColumnSizes(sizes).ValueCounts(values).NullValueCounts(nulls).NaNValueCounts(nans).LowerBoundValues(lower).UpperBoundValues(upper).
		SplitOffsets(f.Summary.RowGroups)
	return b, nil
}

// partitionValues gives a file's partition values the form that the library writes, by the ids of their fields.
func partitionValues(spec iceberg.PartitionSpec, values []layout.Value) map[int]any {
	out := map[int]any{}
	for _, field := range spec.Fields() {
		if _, void := field.Transform.(iceberg.VoidTransform); void {
			// A field that was taken out of the partitioning has no values, and rows are not laid out by it.
			out[field.FieldID] = nil
			continue
		}
		switch v := values[0].(type) {
		case layout.Bytes:
			out[field.FieldID] = []byte(v)
		case layout.Decimal:
			out[field.FieldID] = iceberg.Decimal{Val: v.Unscaled, Scale: int(v.Scale)}
		default:
			out[field.FieldID] = v
		}
		values = values[1:]
	}
	return out
}
