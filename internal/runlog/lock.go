package runlog

import (
	"context"
	"errors"
	"hash/fnv"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// ErrHeld says that somebody else has a lock.
var ErrHeld = errors.New("it is locked")

// Lock takes a lock of a name, which ends with the program whatever happens; the error is ErrHeld where somebody else has it.
func (l *Log) Lock(ctx context.Context, name string) (release func(), err error) {
	h := fnv.New64a()
	// It never fails.
	_, _ = h.Write([]byte("trevak " + name))
	if l.lite != "" {
		release, err := storage.Disk{}.Lock(ctx, lockFile(l.lite, h.Sum64()), false)
		if errors.Is(err, storage.ErrLocked) {
			return nil, ErrHeld
		}
		return release, fault.Wrap(fault.Storage, err, "the lock of %s cannot be taken", name)
	}
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return nil, l.explain(err)
	}
	var got bool
	if err := conn.QueryRowContext(ctx, "SELECT pg_try_advisory_lock($1)", int64(h.Sum64())).Scan(&got); err != nil || !got {
		conn.Close()
		if err == nil {
			return nil, ErrHeld
		}
		return nil, l.explain(err)
	}
	// The lock is that of the connection, and ends with it.
	return func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", int64(h.Sum64()))
		conn.Close()
	}, nil
}

func lockFile(path string, hash uint64) string {
	const digits = "0123456789abcdef"
	name := make([]byte, 16)
	for i := range name {
		name[i] = digits[hash>>(60-4*i)&15]
	}
	return path + "." + string(name) + ".lock"
}
