//go:build !linux

package storage

import (
	"errors"
	"os"
	"runtime"
)

// exchange is for systems that can exchange two paths at once.
func exchange(_, _ string) error { return errors.ErrUnsupported }

func renameNoReplace(from, to string) error { return linkNoReplace(from, to) }

// syncFolder syncs a folder, where the system has a way to.
func syncFolder(f *os.File) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	return f.Sync()
}

// syncFileSystems is for systems that can sync a whole file system.
func syncFileSystems([]string) bool { return false }
