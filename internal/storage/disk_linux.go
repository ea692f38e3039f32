package storage

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// exchange gives each of two paths the other's name, both at once. It fails, and changes nothing, where the file system cannot.
func exchange(a, b string) error {
	return unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
}

// renameNoReplace renames unless the new name is taken.
func renameNoReplace(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrExist):
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EOPNOTSUPP):
		return linkNoReplace(from, to)
	}
	return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
}

func syncFolder(f *os.File) error { return f.Sync() }

// syncFileSystems syncs the file systems that folders are on, each once. It reports false where one could not be.
func syncFileSystems(folders []string) bool {
	synced := map[uint64]bool{}
	for _, folder := range folders {
		var info unix.Stat_t
		if unix.Stat(Path(folder), &info) != nil {
			return false
		}
		if synced[uint64(info.Dev)] {
			continue
		}
		synced[uint64(info.Dev)] = true
		f, err := os.Open(Path(folder))
		if err != nil {
			return false
		}
		err = unix.Syncfs(int(f.Fd()))
		f.Close()
		if err != nil {
			return false
		}
	}
	return len(folders) > 0
}
