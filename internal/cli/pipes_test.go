//go:build unix

package cli

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// shell runs a line of shell with the program as $T, and returns its output, its errors and its exit code.
func shell(t *testing.T, line string) result {
	t.Helper()
	cmd := exec.Command("bash", "-c", line)
	cmd.Env = append(os.Environ(), "T="+program, "TREVAK_WAREHOUSE=", "COLUMNS=")
	var out, errs strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errs
	var exit *exec.ExitError
	if err := cmd.Run(); err != nil && !errors.As(err, &exit) {
		t.Skip(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// TestPipesAreSources reads what is no regular file as a whole.
func TestPipesAreSources(t *testing.T) {
	testfolder.Make(t, map[string]string{"big.csv": manyLines(200_000)})
	for _, line := range []string{"cat big.csv | $T load /dev/stdin --into ops.a", "$T load <(cat big.csv) --into ops.b",
		"cat big.csv | $T convert /dev/stdin --to a.csv",
		"mkfifo p; (cat big.csv > p &); $T load p --into ops.c", "$T load - --into ops.d < big.csv", "cat big.csv | $T infer /dev/stdin",
		"cat big.csv | $T load - --into ops.e --where 'id >= 0'"} {
		if r := shell(t, line); r.code != 0 || !strings.Contains(r.out, "200,000") {
			t.Errorf("%s: exit %d: %s%s", line, r.code, r.out, r.err)
		}
	}
	if got := read(t, result{}, "a.csv"); got != manyLines(200_000) {
		t.Errorf("%d bytes came through the pipe", len(got))
	}
	testfolder.Make(t, map[string]string{"n.ndjson": `{"id":1,"readings":[{"s":"a"},{"s":"b"}]}` + "\n"})
	if r := shell(t, "cat n.ndjson | $T load - --into ops.v --split readings=ops.r"); r.code != 0 ||
		!strings.Contains(r.out, "made 2 rows") {
		t.Errorf("lists of standard input: exit %d: %s%s", r.code, r.out, r.err)
	}
	must(t, []string{"load", "n.ndjson", "--into", "ops.x", "--split", "readings=ops.y"})
	must(t, []string{"load", "./n.ndjson", "--into", "ops.x", "--split", "readings=ops.y"}, "nothing new")
}

// TestWaitsEnd asks the program to end while it waits for a pipe that nobody writes to.
func TestWaitsEnd(t *testing.T) {
	testfolder.Make(t, nil)
	if err := syscall.Mkfifo("p", 0o600); err != nil {
		t.Skip(err)
	}
	for _, signal := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
		for said, args := range map[string][]string{"stopped; nothing was changed": {"preview", "p"},
			"stopped; the table ops.a is as it was, and nothing was kept":      {"load", "p", "--into", "ops.a"},
			"stopped; what is at x.parquet is as it was, and nothing was kept": {"convert", "p", "--to", "x.parquet"}} {
			cmd := exec.Command(program, args...)
			var errs bytes.Buffer
			cmd.Stderr = &errs
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(500 * time.Millisecond)
			if err := cmd.Process.Signal(signal); err != nil {
				t.Fatal(err)
			}
			ended := make(chan error, 1)
			go func() { ended <- cmd.Wait() }()
			select {
			case <-ended:
				if code := cmd.ProcessState.ExitCode(); code != 1 {
					t.Errorf("%v ended with %d", args, code)
				}
				if !strings.Contains(errs.String(), said) {
					t.Errorf("%v says %q, want %q", args, errs.String(), said)
				}
			case <-time.After(10 * time.Second):
				cmd.Process.Kill()
				t.Errorf("%v does not end on %v", args, signal)
			}
		}
	}
}

// TestReportsThatAreLost closes the output before the report of a load can be written.
func TestReportsThatAreLost(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id\n1\n"})
	for _, test := range []struct {
		line string
		code int
		err  string
	}{
		{"$T load a.csv --again --into ops.a > /dev/full", 0, "loaded, snapshot "},
		{"$T load a.csv --again --into ops.a -o json > /dev/full", 1, "loaded, snapshot "},
		{"$T convert a.csv --to a.parquet > /dev/full", 0, "written to a.parquet; the report could not be written"},
		{"$T preview a.csv > /dev/full", 1, "the output could not be written: no space left on device"},
		{"$T infer a.csv --emit feed > /dev/full", 1, "the output could not be written"},
		{"$T convert a.csv --to - > /dev/full", 1, "the rows cannot be written to standard output: no space left on device"},
		{"set -o pipefail; (sleep 0.3; exec $T convert a.csv --to - --quiet) | true", 1, ""},
		{"set -o pipefail; (sleep 0.3; exec $T load a.csv --again --into ops.a) | true", 0, "the report could not be written"},
		{"set -o pipefail; (sleep 0.3; exec $T preview a.csv) | true", 1, ""},
	} {
		r := shell(t, test.line)
		if r.code != test.code || !strings.Contains(r.err, test.err) || test.err == "" && r.err != "" {
			t.Errorf("%s: exit %d, want %d with %q: %s", test.line, r.code, test.code, test.err, r.err)
		}
	}
	if files, err := filepath.Glob("warehouse/ops/a/data/*.parquet"); err != nil || len(files) != 3 {
		t.Errorf("%v, %v", files, err)
	}
}

// TestStandardInputIsKnownByItsContent pipes the same bytes twice, and others.
func TestStandardInputIsKnownByItsContent(t *testing.T) {
	testfolder.Make(t, map[string]string{"a.csv": "id\n1\n", "b.csv": "id\n2\n"})
	for line, want := range map[string]string{"cat a.csv | $T load - --into ops.t; cat a.csv | $T load - --into ops.t": "nothing new",
		"cat b.csv | $T load - --into ops.u; cat a.csv | $T load - --into ops.u": "1 new"} {
		if r := shell(t, line); r.code != 0 || want == "nothing new" && !strings.Contains(r.out, want) {
			t.Errorf("%s: %s%s", line, r.out, r.err)
		}
	}
	if n, m := rowsOf(t, "ops.t"), rowsOf(t, "ops.u"); n != 1 || m != 2 {
		t.Errorf("%d and %d rows", n, m)
	}
}
