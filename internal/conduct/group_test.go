package conduct_test

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"trevak/internal/conduct"
	"trevak/internal/database"
	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
	"trevak/internal/table"
)

// full has no room for the metadata of one table.
type full struct {
	storage.Store
	part string
}

func (f full) Create(ctx context.Context, uri string, c storage.Creation) (storage.Writer, error) {
	if f.part != "" && strings.Contains(uri, f.part) && strings.HasSuffix(uri, ".metadata.json") {
		return nil, fault.New(fault.Storage, "there is no room").In(uri)
	}
	return f.Store.Create(ctx, uri, c)
}

const groupSheet = `sheet: 1
retry: {times: 0}
feeds:
  - {name: tides, source: {files: [tides]}, table: {into: o.tides}, group: g}
  - {name: stations, source: {files: [stations]}, table: {into: o.stations}, group: g}
  - {name: again, source: {files: [stations]}, table: {into: o.again}, group: g}
`

// group carries out the sheet in a warehouse, and returns what became of it, with the tables that are there then.
func group(t *testing.T, w *table.Warehouse) (*conduct.Result, string) {
	t.Helper()
	disk := storage.Disk{}
	if err := storage.WriteAll(t.Context(), disk, "day.yaml", []byte(groupSheet), storage.Creation{Mode: storage.Replace}); err != nil {
		t.Fatal(err)
	}
	s, err := runsheet.Read(t.Context(), disk, "day.yaml", runsheet.Given{Env: func(string) string { return "" }, Now: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	r, err := conduct.Conduct(t.Context(), s, conduct.Options{Store: disk, Warehouse: w}, run.DefaultBudget())
	if err != nil {
		t.Fatal(err)
	}
	names, err := w.Names(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, n := range names {
		list = append(list, n.String())
	}
	return r, strings.Join(list, " ")
}

// TestGroupInADatabase is one commit: where one of its tables cannot be written, none is.
func TestGroupInADatabase(t *testing.T) {
	files(t)
	open := func(part string) *table.Warehouse {
		db, err := database.Open("sqlite:"+filepath.Join("catalog", "c.db"), "")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		w, err := table.OpenSQL(full{storage.Disk{}, part}, table.SQL{Name: "office", Location: "lake", Database: db})
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	for _, part := range []string{"o/again", "o/tides", "o/stations"} {
		if r, names := group(t, open(part)); r.Worst() == nil || names != "" {
			t.Errorf("%s: %v, %s", part, r.Worst(), names)
		}
	}
	if left, err := filepath.Glob("lake/o/*/data/*.parquet"); err != nil || len(left) > 0 {
		t.Errorf("%v, %v", left, err)
	}
	if r, names := group(t, open("")); r.Worst() != nil || names != "o.again o.stations o.tides" {
		t.Errorf("%v, %s", r.Worst(), names)
	}
	if r, _ := group(t, open("")); r.Feeds[0].Outcome != conduct.Known {
		t.Errorf("%+v", r.Feeds)
	}
}

// TestGroupInAFolder has commits that follow each other: what is missing is told, and the same run again completes it.
func TestGroupInAFolder(t *testing.T) {
	files(t)
	open := func(part string) *table.Warehouse {
		w, err := table.OpenWarehouse(full{storage.Disk{}, part}, "lake")
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	r, names := group(t, open("o/stations"))
	var partly *load.GroupError
	if !errors.As(r.Worst(), &partly) || names != "o.tides" || !strings.Contains(r.Worst().Error(), "the rows are in o.tides, but not in the other tables") {
		t.Errorf("%v, %s", r.Worst(), names)
	}
	if r, names = group(t, open("")); r.Worst() != nil || names != "o.again o.stations o.tides" {
		t.Errorf("%v, %s", r.Worst(), names)
	}
}
