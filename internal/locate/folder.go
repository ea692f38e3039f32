package locate

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// below takes everything below one folder but what is hidden and what this program keeps there itself.
func (f *Found) below(ctx context.Context, folder string) error {
	return filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return missing(path, err)
		case ctx.Err() != nil:
			return ctx.Err()
		case entry.Name() == ConvertMark:
			return nil
		case path != folder && hidden(entry.Name()):
			if entry.IsDir() {
				return fs.SkipDir
			}
			f.Hidden++
			return nil
		case entry.IsDir() && IsWarehouse(path):
			f.Passed = append(f.Passed, Passed{path, "warehouse"})
			return fs.SkipDir
		case entry.IsDir() && IsTable(path):
			f.Passed = append(f.Passed, Passed{path, "table"})
			return fs.SkipDir
		case entry.IsDir():
			return nil
		}
		info, err := os.Stat(path)
		if err != nil {
			return missing(path, err)
		}
		if info.IsDir() {
			// A link to a folder is not followed: it may lead back.
			f.Passed = append(f.Passed, Passed{path, "link to a folder"})
			return nil
		}
		if !info.Mode().IsRegular() {
			f.Passed = append(f.Passed, Passed{path, "pipe or device"})
			return nil
		}
		return f.file(ctx, path, info, true)
	})
}

// ConvertMark is the file in which a convert lists what it wrote to a folder.
const ConvertMark = ".trevak-convert.json"

// WarehouseLock is the file that marks a folder of tables, which commits lock.
const WarehouseLock = ".commit.lock"

// IsWarehouse reports whether a folder is one in which this program keeps tables.
func IsWarehouse(folder string) bool {
	_, err := os.Lstat(filepath.Join(folder, WarehouseLock))
	return err == nil
}

// IsTable reports whether a folder is that of a table, by its metadata.
func IsTable(folder string) bool {
	entries, err := os.ReadDir(filepath.Join(folder, "metadata"))
	if err != nil {
		return false
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".metadata.json") {
			return true
		}
	}
	return false
}

// Holds returns the warehouse or table that a path is or lies in, and which of the two it is; both are empty where there is none.
func Holds(path string) (folder, what string) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", ""
	}
	for {
		switch {
		case IsTable(abs):
			return abs, "table"
		case IsWarehouse(abs):
			return abs, "warehouse"
		}
		up := filepath.Dir(abs)
		if up == abs {
			return "", ""
		}
		abs = up
	}
}
