package storage

import (
	"context"
	"sync/atomic"
)

type askedKey struct{}

// Counting counts what stores are asked with the context that it returns: requests to servers, and folders and files looked at on disks.
func Counting(ctx context.Context) (context.Context, *atomic.Int64) {
	n := &atomic.Int64{}
	return context.WithValue(ctx, askedKey{}, n), n
}

// Asked counts one request, where somebody counts.
func Asked(ctx context.Context) {
	if n, ok := ctx.Value(askedKey{}).(*atomic.Int64); ok {
		n.Add(1)
	}
}
