//go:build unix

package storage

import "golang.org/x/sys/unix"

// MayWrite reports whether the system's permissions let this process write to a file or folder of the disk; known is false where that
// cannot be told.
func MayWrite(uri string) (may, known bool) {
	if !local(uri) {
		return false, false
	}
	return unix.Access(Path(uri), unix.W_OK) == nil, true
}
