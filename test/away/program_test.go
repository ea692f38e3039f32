// Package away drives the built program on object stores and catalogs. It has nothing but tests, beside scripts for servers that are
// too large for them.
package away

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// program is the built program, made once for all tests.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "trevak-away-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "trevak")
	build := exec.Command("go", "build", "-o", program, "trevak/cmd/trevak")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// result is what a run printed and how it ended.
type result struct {
	out, err string
	code     int
}

// trevak runs the program in the working folder.
func trevak(t testing.TB, args ...string) result {
	t.Helper()
	cmd := exec.Command(program, args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// must is trevak for a run that must succeed and print certain things.
func must(t testing.TB, args []string, wants ...string) result {
	t.Helper()
	r := trevak(t, args...)
	if r.code != 0 {
		t.Fatalf("trevak %s: exit %d: %s", strings.Join(args, " "), r.code, r.err)
	}
	for _, want := range wants {
		if !strings.Contains(r.out, want) {
			t.Errorf("trevak %s lacks %q:\n%s", strings.Join(args, " "), want, r.out)
		}
	}
	return r
}

// refused is trevak for a run that must end with an exit code and say certain things.
func refused(t testing.TB, code int, args []string, want string) {
	t.Helper()
	if r := trevak(t, args...); r.code != code || !strings.Contains(r.err, want) {
		t.Errorf("trevak %s: exit %d, want %d with %q: %s%s", strings.Join(args, " "), r.code, code, want, r.err, r.out)
	}
}
