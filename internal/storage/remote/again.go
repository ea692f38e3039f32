package remote

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"sync"
	"time"

	"trevak/internal/storage"
)

// Asked is what requests are sent to.
type Asked interface {
	// Final reports whether asking again cannot help, Address is where requests go.
	Final(err error) bool
	Address() string
}

// answered are the addresses that have answered once: they are waited for when they are away for a while. Of others it is more likely
// that they are wrong, which is told sooner.
var answered sync.Map

// triesUnheard is how often an address is tried at which nobody was met yet.
const triesUnheard = 3

// unreachable reports whether there was nobody to send a request to.
func unreachable(err error) bool {
	var call *net.OpError
	var name *net.DNSError
	return errors.As(err, &name) || errors.As(err, &call) && call.Op == "dial"
}

// Patiently does a request again and again while that can help, after pauses that grow, and are never as long as those of others. The
// libraries of protocols do not: they would read a body from its beginning while the request before may still be sending it. Each try
// makes a reader of its own.
func Patiently(ctx context.Context, b Asked, request func() error) error {
	for try := 1; ; try++ {
		storage.Asked(ctx)
		err := request()
		if err == nil || b.Final(err) {
			answered.Store(b.Address(), true)
		} else if _, once := answered.Load(b.Address()); !once && try == triesUnheard && unreachable(err) {
			return err
		}
		if err == nil || try == Tries || ctx.Err() != nil || final(b, err) {
			return err
		}
		if !pause(ctx, try) {
			return ctx.Err()
		}
	}
}

// pause waits before another try; false is for a context that has ended.
func pause(ctx context.Context, try int) bool {
	wait := min(30*time.Millisecond<<try, 5*time.Second)
	select {
	case <-time.After(wait/2 + rand.N(wait/2)):
		return true
	case <-ctx.Done():
		return false
	}
}
