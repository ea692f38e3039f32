package amend_test

import (
	"bufio"
	"fmt"
	"os"
	"testing"

	"trevak/internal/amend"
	"trevak/internal/load"
	"trevak/internal/run"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/testfolder"
)

// soundings writes rows whose ids are made by a function.
func soundings(b *testing.B, name string, rows int, id func(i int) int, shift float64) {
	b.Helper()
	f, err := os.Create(name)
	if err != nil {
		b.Fatal(err)
	}
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "id,area,buoy,observed_at,depth,temp,heading,quality,ok,note,swell")
	for n := range rows {
		i := id(n)
		fmt.Fprintf(w, "%d,%s,buoy-%03d,2031-05-%02dT%02d:%02d:%02d,%.2f,%.2f,%.2f,%d,%t,%s,%.3f\n", i,
			[]string{"Cairn Bay", "The Narrows", "Marrow Deep"}[i%3], i%400, 1+i/400_000%28, i/3600%24, i/60%60, i%60,
			float64(i*37%9000)/100+shift, float64(i*91%4000)/100, float64(i*17%36000)/100, i%7, i%5 > 0, []string{"calm", "fog"}[i%2],
			float64(i*13%100_000)/1000)
	}
	if err := w.Flush(); err != nil {
		b.Fatal(err)
	}
	f.Close()
}

// BenchmarkUpsert brings a tenth as many records as the table has rows, half of whose keys the table has: spread evenly over it, or of
// the newest rows. The times of appending the same records are beside them.
func BenchmarkUpsert(b *testing.B) {
	const rows = 1_000_000
	testfolder.Make(b, map[string]string{})
	soundings(b, "base.csv", rows, func(i int) int { return 2 * i }, 0)
	soundings(b, "spread.csv", rows/10, func(i int) int { return 20*i + i%2 }, 1)
	soundings(b, "newest.csv", rows/10, func(i int) int { return 2*rows - rows/10 + i }, 1)
	into := func(warehouse, into, file string, m load.Merge) {
		w, err := table.OpenWarehouse(storage.Disk{}, warehouse)
		if err != nil {
			b.Fatal(err)
		}
		name, err := table.ParseName(into)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := load.Load(b.Context(), loading(w, name, file, m), run.DefaultBudget()); err != nil {
			b.Fatal(err)
		}
	}
	for _, batch := range []string{"spread", "newest"} {
		for _, how := range []string{"append", "deletes", "rewrite"} {
			b.Run(batch+"/"+how, func(b *testing.B) {
				for n := range b.N {
					warehouse := fmt.Sprintf("%s-%s-%d-%d", batch, how, b.N, n)
					b.StopTimer()
					into(warehouse, "orrin.spots", "base.csv", appending)
					b.StartTimer()
					m, name := appending, "orrin.others"
					if how != "append" {
						as, err := amend.ParseHow("upsert-as", how)
						if err != nil {
							b.Fatal(err)
						}
						m, name = upserting(as), "orrin.spots"
					}
					into(warehouse, name, batch+".csv", m)
				}
			})
		}
	}
}

var appending load.Merge

func upserting(as amend.How) load.Merge { return load.Merge{Mode: load.Upsert, As: as} }
