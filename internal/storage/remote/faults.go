package remote

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Tries is how often a request is tried: for about six seconds, where each is refused at once.
const Tries = 8

// ErrCut says that a listing is only a part of what there is, and does not say how to go on.
var ErrCut = errors.New("a listing is cut")

// Changed is the error of an object that is at another version than the one that was asked for, or is there already.
var Changed = &storage.ChangedError{How: "the store has another version of it now"}

// Unreachable is the error of a server that does not answer.
func Unreachable(shown, server string, err error) error {
	e := fault.New(fault.Storage, "the store cannot be reached").In(shown).Try("check its address, which is %s, and the network", server)
	e.Cause = plainly(err)
	return e
}

// plainly takes out of an error of a connection what the network library says about its calls.
func plainly(err error) error {
	var name *net.DNSError
	var call *net.OpError
	switch {
	case errors.As(err, &name):
		return fmt.Errorf("there is no server %s", name.Name)
	case errors.As(err, &call):
		return call.Err
	}
	return err
}

// Refused reports whether an answer's status means that asking again cannot help; 0 is that of no answer.
func Refused(status int) bool {
	return status != 0 && status < 500 && status != http.StatusRequestTimeout && status != http.StatusTooManyRequests
}

// final is Final for errors of the context as well.
func final(b interface{ Final(error) bool }, err error) bool {
	return errors.Is(err, context.Canceled) || errors.Is(err, storage.ErrChanged) || fault.KindOf(err) == fault.Usage || b.Final(err)
}

// Untold reports whether an error says already what to do, or comes of the context, so that nothing is to be explained.
func Untold(err error) bool {
	return err != nil && fault.KindOf(err) == 0 && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded) &&
		!errors.Is(err, storage.ErrChanged)
}
