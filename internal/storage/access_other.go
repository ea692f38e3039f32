//go:build !unix

package storage

// MayWrite reports whether the system's permissions let this process write to a file or folder of the disk; known is false where that
// cannot be told.
func MayWrite(string) (may, known bool) { return false, false }
