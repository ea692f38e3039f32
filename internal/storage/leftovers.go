package storage

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"
)

// Leftover is what a run that was stopped has left in a folder.
type Leftover struct {
	// Path is where it lies, or what would have been there.
	Path     string
	Bytes    int64
	Modified time.Time
}

// Leaver is a store in which runs that are stopped leave what is no object.
type Leaver interface {
	// Leftovers lists what of it lies below a folder and is older than a time, and removes it where that is asked for.
	Leftovers(ctx context.Context, folder string, before time.Time, remove bool) ([]Leftover, error)
}

// LeftBehind lists what stopped runs have left in a folder that is no object, as far as its store knows; remove takes it away.
func LeftBehind(ctx context.Context, s Store, folder string, before time.Time, remove bool) ([]Leftover, error) {
	if leaver, ok := of(s, folder).(Leaver); ok {
		return leaver.Leftovers(ctx, folder, before, remove)
	}
	return nil, nil
}

// Names of what runs leave: the folder beside a destination, a file that was being written, and rows that waited on the disk.
var (
	leftStage = regexp.MustCompile(`^\.(.+)\.partial-(.+)-[0-9a-z]+(\.old)?$`)
	leftFile  = regexp.MustCompile(`^\.[0-9a-f]{16}\.tmp$`)
	leftRows  = regexp.MustCompile(`^\.trevak-rows-[0-9]+$`)
)

// Leftovers lists what runs of this machine have left in a folder, not in those below it, that are not at work any more and that touched
// it no later than before; remove takes it away. What a run had moved aside for its own is put back where nothing is in its place.
func Leftovers(folder string, before time.Time, remove bool) (out []Leftover, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		stage := leftStage.FindStringSubmatch(e.Name())
		isStage := stage != nil && e.IsDir() && stage[2] == machineName()
		if !isStage && !(e.Type().IsRegular() && (leftFile.MatchString(e.Name()) || leftRows.MatchString(e.Name()))) {
			continue
		}
		l := Leftover{Path: filepath.Join(folder, e.Name())}
		if l.Bytes, l.Modified, err = extent(l.Path); errors.Is(err, fs.ErrNotExist) || err == nil && l.Modified.After(before) {
			continue
		}
		gone := err == nil
		if isStage && gone {
			gone, err = leftBehind(l.Path, filepath.Join(folder, stage[1]), stage[3] != "", remove)
		} else if gone && remove {
			err = os.Remove(l.Path)
		}
		if err != nil {
			return out, err
		}
		if gone {
			out = append(out, l)
		}
	}
	return out, nil
}

// leftBehind reports whether nobody will finish with a folder beside a destination, and removes it where that is asked for.
func leftBehind(folder, destination string, aside, remove bool) (bool, error) {
	if aside {
		if _, err := os.Lstat(destination); errors.Is(err, fs.ErrNotExist) {
			// It is what was at the destination, and the only one.
			if remove {
				(&diskStage{place: destination}).sweep(filepath.Dir(folder))
			}
			return false, nil
		}
	} else {
		lock := folderLock(folder)
		defer lock.Close()
		if free, err := lock.TryLock(); err != nil || !free {
			// Its run is at work.
			return false, nil
		}
	}
	if !remove {
		return true, nil
	}
	return true, os.RemoveAll(folder)
}

// extent is how large a file is, or all in a folder, and when it was touched last.
func extent(path string) (bytes int64, last time.Time, err error) {
	err = filepath.WalkDir(path, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if !e.IsDir() {
			bytes += info.Size()
		}
		if info.ModTime().After(last) {
			last = info.ModTime()
		}
		return nil
	})
	return bytes, last, err
}
