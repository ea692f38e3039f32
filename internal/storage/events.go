package storage

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"
)

// Events are those of the file system below some folders.
type Events struct {
	watcher *fsnotify.Watcher
	// Changed gets the paths of files that were made, written or renamed; an empty one says that some were missed, so that folders have to
	// be listed. It is closed at the end.
	Changed chan string
}

// Follow begins to follow what happens below folders of the disk, in those made later too, until the context ends.
func Follow(ctx context.Context, folders []string) (*Events, error) {
	w, err := fsnotify.NewBufferedWatcher(1 << 12)
	if err != nil {
		return nil, err
	}
	e := &Events{watcher: w, Changed: make(chan string, 1<<10)}
	for _, folder := range folders {
		if _, err := e.add(Path(folder)); err != nil {
			w.Close()
			return nil, err
		}
	}
	go e.serve(ctx)
	return e, nil
}

// add watches a folder and those below it, and returns the files that are in them.
func (e *Events) add(folder string) (files []string, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist) && path != folder:
			return nil
		case err != nil:
			return err
		case !d.IsDir():
			files = append(files, path)
			return nil
		case path != folder && strings.HasPrefix(d.Name(), "."):
			return filepath.SkipDir
		}
		return e.watcher.Add(path)
	})
	return files, err
}

func (e *Events) serve(ctx context.Context) {
	defer close(e.Changed)
	defer e.watcher.Close()
	say := func(path string) bool {
		select {
		case e.Changed <- path:
			return true
		case <-ctx.Done():
			return false
		}
	}
	for {
		select {
		case <-ctx.Done():
			return
		case _, ok := <-e.watcher.Errors:
			// Too many at once, mostly.
			if !ok || !say("") {
				return
			}
		case event, ok := <-e.watcher.Events:
			if !ok {
				return
			}
			if !event.Has(fsnotify.Create) && !event.Has(fsnotify.Write) {
				continue
			}
			if info, err := os.Stat(event.Name); err == nil && info.IsDir() {
				// What came into it before it was watched has no event.
				files, err := e.add(event.Name)
				if err != nil && !say("") {
					return
				}
				for _, path := range files {
					if !say(path) {
						return
					}
				}
				continue
			}
			if !say(event.Name) {
				return
			}
		}
	}
}
