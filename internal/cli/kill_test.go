package cli

import (
	"os/exec"
	"time"
)

// killAfter kills a run after a while that grows with the round, unless it is done before.
func killAfter(cmd *exec.Cmd, done chan error, round int) {
	select {
	case err := <-done:
		done <- err
	case <-time.After(time.Duration(20+40*round) * time.Millisecond):
		cmd.Process.Kill()
	}
}
