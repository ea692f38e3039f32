package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"syscall"
)

// outlet is where results go. It takes everything, also when they can no longer be written, and remembers why they could not.
type outlet struct {
	io.Writer
	err error
}

func (o *outlet) Write(p []byte) (int, error) {
	if o.err == nil {
		_, o.err = o.Writer.Write(p)
	}
	return len(p), nil
}

// errSeenEnough says that whoever read the rows of a run closed the pipe, and needs no message.
var errSeenEnough = errors.New("the pipe was closed")

// lost tells of results that could not be written, and returns the exit code. Where the work itself is done, that it is matters
// more than its report.
func (a *app) lost(cause error) int {
	var path *fs.PathError
	if errors.As(cause, &path) {
		cause = path.Err
	}
	switch {
	case a.done != "":
		fmt.Fprintf(a.err, "trevak: %s; the report could not be written: %s\n", a.done, cause)
		if !a.json() {
			return 0
		}
	case !errors.Is(cause, syscall.EPIPE):
		// Who closes a pipe has seen enough, and needs no message.
		fmt.Fprintf(a.err, "trevak: the output could not be written: %s\n", cause)
	}
	return 1
}
