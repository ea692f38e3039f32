package away

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// served starts a sandbox, has the environment of the test lead to it, and returns the folder that it serves.
func served(t *testing.T, flags ...string) string {
	t.Helper()
	dir := t.TempDir()
	server := exec.Command(program, append([]string{"sandbox", "-o", "json", "--dir", dir}, flags...)...)
	out, err := server.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		server.Process.Signal(os.Interrupt)
		server.Wait()
	})
	var told struct {
		Environment map[string]string `json:"environment"`
	}
	if err := json.NewDecoder(out).Decode(&told); err != nil || len(told.Environment) < 4 {
		t.Fatal(told, err)
	}
	for name, value := range told.Environment {
		t.Setenv(name, value)
	}
	return dir
}

// waves is rows of a day, with ids from one on.
func waves(id, rows int) string {
	var b strings.Builder
	b.WriteString("id,sea_area,wave_m\n")
	for i := range rows {
		fmt.Fprintf(&b, "%d,area %d,%.1f\n", id+i, (id+i)%4, float64(i%90)/10)
	}
	return b.String()
}

// TestTheDayInAStore does the work of a day with everything in a store that is in trouble.
func TestTheDayInAStore(t *testing.T) {
	testfolder.Make(t, stationDay)
	served(t, "--throttle", "25", "--lose", "6", "--cut", "1500", "--cut-every", "3")
	dayInAStore(t, "s3://orrin")
}

// stationDay are the files of a day.
var stationDay = map[string]string{"in/a.csv": waves(0, 400), "in/b.csv": waves(400, 400),
	"fix.csv": "id,sea_area,wave_m\n7,area 3,99.5\n900,area 0,1.5\n"}

// dayInAStore does the work of a day with everything below a URI.
func dayInAStore(t *testing.T, base string) {
	t.Helper()
	at := func(rest string) string { return base + "/" + rest }
	must(t, []string{"convert", "in", "--to", at("raw/"), "--partition", "sea_area", "--format", "csv"}, "800 read = 800 written")
	must(t, []string{"preview", at("raw/*/*.csv"), "-n", "2"}, "sea_area")
	refused(t, 1, []string{"preview", at("rax/*.csv")}, "no file matches the pattern")
	refused(t, 1, []string{"preview", at("raw/none.csv")}, "no file or folder")
	w := []string{"-w", at("warehouse")}
	in := func(args ...string) []string { return append(args, w...) }
	must(t, in("load", "in/a.csv", "--into", "ops.waves", "--key", "id"), "400 read = 400 written")
	must(t, in("load", "in", "--into", "ops.waves"), "400 read = 400 written")
	must(t, in("load", "in", "--into", "ops.waves"), "nothing new")
	must(t, in("load", "fix.csv", "--into", "ops.waves", "--mode", "upsert"), "1 updated")
	must(t, in("describe", "ops.waves"), at("warehouse/ops/waves"), "801")
	must(t, in("compact", "ops.waves"), "ops.waves")
	must(t, in("sweep", "ops.waves", "--older-than", "0s"), "ops.waves")
	must(t, in("reconcile", "in/b.csv", "--with", "ops.waves"), "agree")
	must(t, in("convert", "table:ops.waves", "--to", "back.csv"), "801")
	text, err := os.ReadFile("back.csv")
	if err != nil || strings.Count(string(text), "\n") != 802 || !strings.Contains(string(text), "7,area 3,99.5") {
		t.Errorf("%d lines, %v", strings.Count(string(text), "\n"), err)
	}
	must(t, []string{"infer", "in/a.csv", "--report", at("pages/waves.html")}, "sea_area")
	must(t, []string{"infer", "in/a.csv", "--report", at("pages/waves.html")}, "sea_area")
	must(t, in("load", "fix.csv", "--into", "ops.checked", "--check", "quarantine: id < 100", "--quarantine", at("bad/fix.ndjson")), "1 quarantined")
	must(t, []string{"preview", at("bad/fix.ndjson")}, "900")
	// What is overwritten leaves nothing of what was there.
	must(t, []string{"convert", "in/a.csv", "--to", at("raw/"), "--overwrite", "--format", "csv"}, "400 written")
	must(t, []string{"convert", at("raw/"), "--to", "again.csv"}, "400 read = 400 written")
}

// TestManyLoadInAStore has loads race for one table.
func TestManyLoadInAStore(t *testing.T) {
	testfolder.Make(t, nil)
	served(t, "--lose", "7")
	manyLoad(t, "-w", "s3://orrin/wh")
}

// manyLoad has loads race for one table of a warehouse.
func manyLoad(t *testing.T, where ...string) {
	t.Helper()
	const loads, rows = 12, 50
	for i := range loads {
		if err := os.WriteFile(fmt.Sprintf("%02d.csv", i), []byte(waves(i*rows, rows)), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	must(t, append([]string{"load", "00.csv", "--into", "ops.waves"}, where...))
	var running sync.WaitGroup
	for worker := range 4 {
		running.Go(func() {
			for i := worker; i < loads; i += 4 {
				// Each file twice, by two at once.
				for _, n := range []int{i, (i + 1) % loads} {
					if r := trevak(t, append([]string{"load", fmt.Sprintf("%02d.csv", n), "--into", "ops.waves"}, where...)...); r.code != 0 {
						t.Errorf("%d: %s", n, r.err)
					}
				}
			}
		})
	}
	running.Wait()
	must(t, append([]string{"convert", "table:ops.waves", "--to", "raced.csv", "--sort", "id"}, where...))
	text, err := os.ReadFile("raced.csv")
	if err != nil || len(strings.Split(strings.TrimSpace(string(text)), "\n")) != loads*rows+1 {
		t.Errorf("%d lines of %d, %v", strings.Count(string(text), "\n"), loads*rows+1, err)
	}
}

// TestStaleListings loads a table whose store lists what was there some time ago.
func TestStaleListings(t *testing.T) {
	testfolder.Make(t, map[string]string{"0.csv": waves(0, 10), "1.csv": waves(10, 10), "2.csv": waves(20, 10)})
	served(t, "--stale", "1m")
	for _, file := range []string{"0.csv", "1.csv", "2.csv", "1.csv"} {
		must(t, []string{"load", file, "--into", "ops.waves", "-w", "s3://orrin/wh"}, "")
	}
	if r := must(t, []string{"convert", "table:ops.waves", "--to", "-", "-w", "s3://orrin/wh"}); strings.Count(r.out, "\n") != 30 {
		t.Errorf("%d rows of 30", strings.Count(r.out, "\n"))
	}
	refused(t, 1, []string{"preview", "s3://orrin/wh/ops/*/data/*.parquet"}, "no file matches")
}

// TestKilledLoadsInAStore kills loads at any moment; the table is as before or after, and the same again finishes it.
func TestKilledLoadsInAStore(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/0.csv": waves(0, 100)})
	served(t, "--latency", "2ms")
	must(t, []string{"load", "in", "--into", "ops.waves", "-w", "s3://orrin/wh"})
	random := rand.New(rand.NewPCG(5, 6))
	kills := 10
	if testing.Short() {
		kills = 4
	}
	for i := 1; i <= kills; i++ {
		if err := os.WriteFile(filepath.Join("in", fmt.Sprintf("%d.csv", i)), []byte(waves(i*100, 100)), 0o666); err != nil {
			t.Fatal(err)
		}
		load := exec.Command(program, "load", "in", "--into", "ops.waves", "-w", "s3://orrin/wh", "--partition", "sea_area")
		if err := load.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(20+random.IntN(250)) * time.Millisecond)
		load.Process.Kill()
		load.Wait()
		r := must(t, []string{"convert", "table:ops.waves", "--to", "-", "-w", "s3://orrin/wh"})
		if lines := strings.Count(r.out, "\n"); lines%100 != 0 {
			t.Fatalf("after kill %d: %d rows", i, lines)
		}
		if i%5 == 0 {
			must(t, []string{"load", "in", "--into", "ops.waves", "-w", "s3://orrin/wh"})
			if r := must(t, []string{"convert", "table:ops.waves", "--to", "-", "-w", "s3://orrin/wh"}); strings.Count(r.out, "\n") != 100*(i+1) {
				t.Fatalf("after the load was run again: %d rows of %d", strings.Count(r.out, "\n"), 100*(i+1))
			}
		}
	}
}

// TestStoresAreDescribed reaches a store by trevak.yaml, and has mistakes in it told.
func TestStoresAreDescribed(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": waves(0, 10)})
	served(t)
	endpoint := os.Getenv("AWS_ENDPOINT_URL")
	t.Setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
	config := "stores:\n  harbour:\n    for: s3://orrin\n    endpoint: " + endpoint + "\n    path_style: true\n"
	if err := os.WriteFile("trevak.yaml", []byte(config), 0o666); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"convert", "a.csv", "--to", "s3://orrin/a.parquet"}, "10 written")
	for text, want := range map[string]string{
		"stores:\n  harbour:\n    fro: s3://orrin\n":                                          `trevak.yaml:3: the key "fro" is not known`,
		"stores:\n  harbour:\n    for: moon://orrin\n":                                        "trevak.yaml:3",
		"stores:\n  a:\n    for: s3://orrin\n  b:\n    for: s3://orrin/\n":                    "for the same",
		"stores:\n  harbour:\n    for: s3://orrin\n    endpoint: store.example\n":             "no address of a store",
		"stores:\n  harbour:\n    for: s3://orrin\n    ca: none.pem\n    endpoint: https://a": "none.pem",
	} {
		if err := os.WriteFile("trevak.yaml", []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
		refused(t, 2, []string{"preview", "s3://orrin/a.parquet"}, want)
	}
	os.Remove("trevak.yaml")
	refused(t, 1, []string{"preview", "s3://orrin/a.parquet"}, "cannot be reached")
}

// TestSandboxRunsACommand has a sandbox run a command, whose exit code it takes over.
func TestSandboxRunsACommand(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": waves(0, 10)})
	must(t, []string{"sandbox", "--", "convert", "a.csv", "--to", "s3://orrin/a.csv"}, "10 written")
	got, err := os.ReadFile("sandbox/orrin/a.csv")
	if err != nil || bytes.Count(got, []byte("\n")) != 11 {
		t.Errorf("%q, %v", got, err)
	}
	refused(t, 2, []string{"sandbox", "--", "convert", "a.csv"}, "--to")
	refused(t, 1, []string{"sandbox", "--expired", "--", "preview", "s3://orrin/a.csv"}, "ExpiredToken")
	refused(t, 2, []string{"sandbox", "--listen", "nowhere"}, "nowhere")
}

// TestDemoInASandbox goes through the whole day with everything in a store.
func TestDemoInASandbox(t *testing.T) {
	testfolder.Make(t, nil)
	must(t, []string{"demo", "--sandbox"}, "s3://orrin/observations", "agree", "trevak sandbox --dir trevak-demo/sandbox -- tables -w s3://orrin/warehouse")
	must(t, []string{"sandbox", "--dir", "trevak-demo/sandbox", "--", "tables", "-w", "s3://orrin/warehouse"}, "orrin.observations")
}
