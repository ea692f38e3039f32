// Package ahead has numbered pieces of work done side by side, and their results taken in order.
//
// What comes in are a number of pieces and a function that does one; what goes out are the results, all of the first piece
// before those of the second.
package ahead

import (
	"context"
	"sync"
)

// message is a result, or the end of a piece.
type message[T any] struct {
	result T
	end    bool
	err    error
}

// Each does n pieces of work, up to limit of them at a time, and hands what they send to take, which is called from this
// goroutine alone, in the order of the pieces and of their results. Of each piece up to room results wait. Each returns the first
// error in that order, of do or of take, once nothing is at work any more.
func Each[T any](ctx context.Context, n, limit, room int, do func(ctx context.Context, i int, send func(T) error) error,
	take func(i int, result T) error) error {
	ctx, cancel := context.WithCancel(ctx)
	limit = max(1, min(n, limit))
	lanes, pieces := make([]chan message[T], limit), make(chan int, limit)
	for i := range lanes {
		lanes[i] = make(chan message[T], room)
	}
	var running sync.WaitGroup
	defer running.Wait()
	defer cancel()
	defer close(pieces)
	for range limit {
		// A goroutine does many pieces, so that its stack need not grow for each.
		running.Go(func() {
			for i := range pieces {
				if ctx.Err() != nil {
					return
				}
				work(ctx, i, lanes[i%limit], do)
			}
		})
	}
	for i := range min(n, limit) {
		pieces <- i
	}
	for i := range n {
		for {
			var m message[T]
			select {
			case m = <-lanes[i%limit]:
			case <-ctx.Done():
				return ctx.Err()
			}
			if m.err != nil {
				return m.err
			}
			if m.end {
				break
			}
			if err := take(i, m.result); err != nil {
				return err
			}
		}
		if i+limit < n {
			pieces <- i + limit
		}
	}
	return nil
}

// work does a piece, and sends what comes of it down its lane.
func work[T any](ctx context.Context, i int, lane chan<- message[T], do func(ctx context.Context, i int, send func(T) error) error) {
	put := func(m message[T]) error {
		select {
		case lane <- m:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	err := do(ctx, i, func(result T) error { return put(message[T]{result: result}) })
	// Where nobody waits for the end any more, it does not matter.
	_ = put(message[T]{end: true, err: err})
}
