package cli

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// killed starts the program, kills it after a while that grows with the round, and reports whether it was done before.
func killed(t *testing.T, round int, args ...string) (done bool) {
	t.Helper()
	cmd := exec.Command(program, args...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case err := <-ended:
		return err == nil
	case <-time.After(time.Duration(20+40*round) * time.Millisecond):
	}
	// It may end by itself before the kill arrives.
	_ = cmd.Process.Kill()
	return <-ended == nil
}

// areas is a file of n records in 50 areas.
func areas(n int) string {
	var b strings.Builder
	b.WriteString("id,area\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,area %d\n", i, i%50)
	}
	return b.String()
}
