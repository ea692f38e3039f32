package storage

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// BeingWritten reports whether some process has a file of the disk open for writing; known is false where that cannot be told. The system
// grants a lease for reading only where nobody has.
func BeingWritten(uri string) (is, known bool) {
	if !local(uri) {
		return false, false
	}
	file, err := os.Open(Path(uri))
	if err != nil {
		return false, false
	}
	defer file.Close()
	_, err = unix.FcntlInt(file.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	if errors.Is(err, unix.EAGAIN) {
		return true, true
	}
	if err != nil {
		return false, false
	}
	_, err = unix.FcntlInt(file.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
	return false, err == nil
}
