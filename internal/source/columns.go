package source

import (
	"context"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/table"
)

// LookInto reads the schema of a columnar file.
func (in *Input) LookInto(ctx context.Context) error {
	if !in.AtHand() {
		return fault.New(fault.Input,
			"is a columnar file, which is read from the disk only").In(in.Location).Try("save it to a file first")
	}
	f, err := in.OpenColumns(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	in.Own = f.Schema
	if n := len(in.Own.Fields); n > 0 && in.Own.Fields[n-1].ID == table.OriginField.ID && in.Own.Fields[n-1].Name == table.OriginField.Name {
		// It is no column of the rows.
		in.Own.Fields = in.Own.Fields[:n-1]
	}
	for _, field := range in.Own.Fields {
		in.Rules.Names = append(in.Rules.Names, field.Name)
	}
	return nil
}

// OpenColumns opens a columnar file that is still what was listed.
func (in Input) OpenColumns(ctx context.Context) (*columnar.File, error) {
	file, err := in.File(ctx)
	if err != nil {
		return nil, err
	}
	return columnar.OpenFile(in.Location, file, in.Size)
}
