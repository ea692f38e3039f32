package conduct_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
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
	"trevak/internal/sandbox"
	"trevak/internal/storage"
	"trevak/internal/storage/s3"
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

// TestGroupAtAService is one commit where the service takes several as one, and several where it does not.
func TestGroupAtAService(t *testing.T) {
	for name, together := range map[string]bool{"together": true, "apart": false} {
		t.Run(name, func(t *testing.T) {
			files(t)
			t.Setenv("AWS_ACCESS_KEY_ID", "harbour")
			t.Setenv("AWS_SECRET_ACCESS_KEY", "not-a-secret")
			served, err := sandbox.New("sandbox", sandbox.Trouble{})
			if err != nil {
				t.Fatal(err)
			}
			asked, refuse := 0, false
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if strings.HasSuffix(r.URL.Path, "/transactions/commit") {
					if asked++; !together {
						w.WriteHeader(http.StatusNotFound)
						return
					}
					if refuse {
						w.WriteHeader(http.StatusForbidden)
						return
					}
				}
				served.ServeHTTP(w, r)
			}))
			defer server.Close()
			store := storage.Stores{"": storage.Disk{}, "s3": s3.New(s3.Options{Patience: 5 * time.Second, Of: func(string) (s3.Settings, error) {
				return s3.Settings{Endpoint: server.URL, Region: "us-east-1", PathStyle: true}, nil
			}})}
			open := func() *table.Warehouse {
				w, err := table.OpenService(t.Context(), store, table.Service{Name: "office", URI: server.URL, Location: "s3://orrin/wh"})
				if err != nil {
					t.Fatal(err)
				}
				return w
			}
			if refuse = together; refuse {
				if r, names := group(t, open()); r.Worst() == nil || names != "" {
					t.Errorf("%v, %s", r.Worst(), names)
				}
				refuse = false
			}
			if r, names := group(t, open()); r.Worst() != nil || names != "o.again o.stations o.tides" || asked == 0 {
				t.Errorf("%v, %s, asked %d times", r.Worst(), names, asked)
			}
			if r, _ := group(t, open()); r.Feeds[0].Outcome != conduct.Known {
				t.Errorf("%+v", r.Feeds)
			}
			// Tables that are there grow together, too.
			if err := storage.WriteAll(t.Context(), storage.Disk{}, "stations/b.csv", []byte("code,area\n3,west\n"), storage.Creation{}); err != nil {
				t.Fatal(err)
			}
			w := open()
			if r, _ := group(t, w); r.Worst() != nil || r.Feeds[1].Outcome != conduct.Done || r.Feeds[0].Reports[0].RowsWritten != 0 {
				t.Errorf("%v, %+v", r.Worst(), r.Feeds)
			}
			for name, want := range map[string]int64{"o.tides": 1, "o.stations": 3, "o.again": 3} {
				parsed, err := table.ParseName(name)
				if err != nil {
					t.Fatal(err)
				}
				one, err := w.Find(t.Context(), parsed)
				if err != nil {
					t.Fatal(err)
				}
				if s, ok := one.Current(); !ok || s.Rows != want {
					t.Errorf("%s: %+v", name, s)
				}
			}
		})
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
