package flow

import "golang.org/x/sys/unix"

// exchange gives each of two paths the other's name, both at once. It fails, and changes nothing, where the file system cannot.
func exchange(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}
