package reconcile_test

import (
	"fmt"
	"math/rand"
	"strconv"
	"strings"
	"testing"

	"trevak/internal/amend"
	"trevak/internal/infer"
	"trevak/internal/layout"
	"trevak/internal/load"
	"trevak/internal/reconcile"
	"trevak/internal/run"
	"trevak/internal/source"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
	"trevak/internal/write"
)

// spots is a file of spots, some of which are changed in one cell.
func spots(r *rand.Rand, n int) string {
	lines := []string{"id,area,note,version"}
	for range n {
		lines = append(lines, fmt.Sprintf("%d,%s,%s,%d", r.Intn(25), []string{"Cairn Bay", "The Narrows", ""}[r.Intn(3)],
			[]string{"calm", "fog", "gone"}[r.Intn(3)], r.Intn(4)))
	}
	return strings.Join(lines, "\n") + "\n"
}

// TestEachLoadIsProved does random loads in all modes that keep rows, and holds each against what it left; then a cell of the source is
// changed, which has to be found.
func TestEachLoadIsProved(t *testing.T) {
	for seed := range int64(12) {
		t.Run(strconv.Itoa(int(seed)), func(t *testing.T) {
			testfolder.Make(t, map[string]string{})
			r := rand.New(rand.NewSource(seed))
			w, err := table.OpenWarehouse(storage.Disk{}, "store")
			if err != nil {
				t.Fatal(err)
			}
			name, err := table.ParseName("orrin.spots")
			if err != nil {
				t.Fatal(err)
			}
			for n := range 8 {
				file := fmt.Sprintf("in%d.csv", n)
				l := load.Request{Task: write.Task{Reading: infer.Reading{Reading: source.Reading{Store: storage.Disk{}, Sources: []string{file}}}},
					Warehouse: w, Into: name, Layout: layout.DefaultOptions, Partition: []string{"", "area"}[seed%2]}
				if seed%3 > 0 {
					l.Mode = []load.Mode{load.Upsert, load.Missing}[r.Intn(2)]
					l.Corrections.Key = []string{"id"}
					if l.Mode == load.Upsert {
						l.As = amend.How(r.Intn(3))
					}
					if r.Intn(3) == 0 {
						l.NewestBy = "version"
					}
					if l.Mode == load.Upsert && r.Intn(3) == 0 {
						l.DeleteWhere = "note = 'gone'"
					}
				}
				text := spots(r, 1+r.Intn(14))
				proved := func(text string) *reconcile.Result {
					t.Helper()
					if err := storage.WriteAll(t.Context(), storage.Disk{}, file, []byte(text), storage.Creation{Mode: storage.Replace}); err != nil {
						t.Fatal(err)
					}
					now, err := w.Find(t.Context(), name)
					if err != nil {
						t.Fatal(err)
					}
					out, err := reconcile.Table(t.Context(), l, now, 5, run.DefaultBudget())
					if err != nil {
						t.Fatal(err)
					}
					return out
				}
				if err := storage.WriteAll(t.Context(), storage.Disk{}, file, []byte(text), storage.Creation{Mode: storage.Replace}); err != nil {
					t.Fatal(err)
				}
				if _, err := load.Load(t.Context(), l, run.DefaultBudget()); err != nil {
					t.Fatal(err)
				}
				if out := proved(text); !out.Agree {
					t.Fatalf("load %d, %+v: %+v\n%s", n, l.Merge, out, text)
				}
				if l.Mode != load.Append {
					continue
				}
				lines := strings.Split(text, "\n")
				at := 1 + r.Intn(len(lines)-2)
				was := lines[at]
				lines[at] = was[:len(was)-1] + "9"
				out := proved(strings.Join(lines, "\n"))
				if out.Agree || out.Missing != 1 || out.Surplus != 1 || out.Examples[0].Source != fmt.Sprintf("%s:%d", file, at+1) {
					t.Errorf("line %d, %q made %q: %+v", at+1, was, lines[at], out)
				}
				proved(text)
			}
		})
	}
}
