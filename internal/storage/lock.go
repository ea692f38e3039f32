package storage

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// lockRetry is how often a lock is asked for while somebody else has it.
const lockRetry = 5 * time.Millisecond

// Lock locks a file, by an advisory lock of the system, which ends with the program whatever happens.
func (Disk) Lock(ctx context.Context, uri string, wait bool) (func(), error) {
	if err := os.MkdirAll(filepath.Dir(Path(uri)), 0o777); err != nil {
		return nil, err
	}
	// The umask decides who else may lock it, as for all files.
	return lockPath(ctx, flock.New(Path(uri), flock.SetPermissions(0o666)), wait)
}

func lockPath(ctx context.Context, lock *flock.Flock, wait bool) (func(), error) {
	var ok bool
	var err error
	if wait {
		ok, err = lock.TryLockContext(ctx, lockRetry)
	} else {
		ok, err = lock.TryLock()
	}
	switch {
	case err != nil:
		return nil, errors.Join(err, lock.Close())
	case !ok:
		return nil, errors.Join(ErrLocked, lock.Close())
	}
	return func() { lock.Unlock() }, nil
}
