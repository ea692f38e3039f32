package flow

import (
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"trevak/internal/fault"
	"trevak/internal/layout"
)

// staging is the folder beside a destination in which its files are written. It is locked for as long as its run lives, so
// that a later run can tell those that nobody will finish.
type staging struct {
	folder string
	lock   *flock.Flock
	files  int
}

// asideEnding is that of what was at a destination, where two folders cannot be exchanged at once.
const asideEnding = ".old"

// stagingPrefix begins the names of all staging folders that this machine makes for a destination. Those of other machines
// are theirs to remove: a lock may not be seen from one machine to another.
func (d *destination) stagingPrefix() string {
	machine, err := os.Hostname()
	if err != nil {
		machine = "here"
	}
	return "." + filepath.Base(d.path) + ".partial-" + machine + "-"
}

// begin makes a fresh staging folder, and removes those that killed runs have left.
func (d *destination) begin() error {
	parent := filepath.Dir(d.path)
	if err := os.MkdirAll(parent, 0o755); err != nil {
		return fault.Wrap(fault.Storage, err, "the folder %s cannot be made", parent)
	}
	d.sweep(parent)
	for {
		folder, err := os.MkdirTemp(parent, d.stagingPrefix()+"*")
		if err != nil {
			return fault.Wrap(fault.Storage, err, "nothing can be written beside %s", d.path)
		}
		lock := folderLock(folder)
		// Without a lock nothing is lost: where folders have none, none is ever taken for one that was left.
		_ = lock.Lock()
		if err := os.Chmod(folder, 0o755); os.IsNotExist(err) {
			// Another run swept it away before it was locked.
			lock.Close()
			continue
		} else if err != nil {
			lock.Close()
			return fault.Wrap(fault.Storage, err, "%s cannot be written to", folder)
		}
		d.staging = staging{folder: folder, lock: lock}
		return nil
	}
}

// folderLock is a lock on a folder itself, which needs no file in it.
func folderLock(folder string) *flock.Flock { return flock.New(folder, flock.SetFlag(os.O_RDONLY)) }

// sweep removes the staging folders of runs that were killed, and puts back what one of them had moved aside. What cannot be
// removed stays: it is in nobody's way.
func (d *destination) sweep(parent string) {
	folder, err := os.Open(parent)
	if err != nil {
		return
	}
	names, _ := folder.Readdirnames(-1)
	folder.Close()
	for _, name := range names {
		if !strings.HasPrefix(name, d.stagingPrefix()) {
			continue
		}
		path := filepath.Join(parent, name)
		if owner, aside := strings.CutSuffix(path, asideEnding); aside {
			_, staged := os.Stat(owner)
			_, there := os.Stat(d.path)
			if os.IsNotExist(staged) && os.IsNotExist(there) {
				os.Rename(path, d.path)
			}
			continue
		}
		lock := folderLock(path)
		if left, err := lock.TryLock(); err == nil && left {
			os.RemoveAll(path)
		}
		lock.Close()
	}
}

// layout adapts the options: a single file is never split, and is there even without rows.
func (d *destination) layout(o layout.Options) layout.Options {
	o.Columnar.Format = d.format
	if d.single {
		o.FileBytes, o.EvenEmpty = math.MaxInt64, true
	}
	return o
}

// create is the layout.Create of a convert.
func (d *destination) create(folder string) (io.WriteCloser, string, error) {
	d.files++
	dir := filepath.Join(d.folder, filepath.FromSlash(folder))
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "the folder of a data file cannot be made")
	}
	path := filepath.Join(dir, fmt.Sprintf("%05d%s", d.files, d.format))
	file, err := os.Create(path)
	if err != nil {
		return nil, "", fault.Wrap(fault.Storage, err, "a data file cannot be made")
	}
	return layout.Behind(file), path, nil
}

// publish moves what was staged to the destination, and removes what was there.
func (d *destination) publish() error {
	if err := d.place(); err != nil {
		return fault.Wrap(fault.Storage, err, "the finished files cannot be moved to %s", d.path)
	}
	d.discard()
	return nil
}

// place gives what was staged its name. A file takes the place of another at once; so do folders, where the system can
// exchange them.
func (d *destination) place() error {
	info, err := os.Lstat(d.path)
	there := err == nil
	if there && !d.overwrite {
		if !d.emptyFolder(info) {
			return fault.New(fault.Storage, "something came to be at %s meanwhile", d.path).Try("choose another name, or replace it with --overwrite")
		}
		// An empty folder makes way.
		if err := os.Remove(d.path); err != nil {
			return err
		}
		there = false
	}
	if there && !d.single {
		// It was looked at when the run began; something may have come to it since.
		if err := mayReplace(d.path); err != nil {
			return err
		}
	}
	if !d.single {
		if err := writeMark(d.folder); err != nil {
			return err
		}
	}
	if d.single {
		return os.Rename(filepath.Join(d.folder, "00001"+string(d.format)), d.path)
	}
	if !there {
		return os.Rename(d.folder, d.path)
	}
	if exchange(d.folder, d.path) == nil {
		return nil
	}
	aside := d.folder + asideEnding
	if err := os.Rename(d.path, aside); err != nil {
		return err
	}
	if err := os.Rename(d.folder, d.path); err != nil {
		return errors.Join(err, os.Rename(aside, d.path))
	}
	return os.RemoveAll(aside)
}

// discard removes what is left of the staging folder.
func (d *destination) discard() {
	if d.folder != "" {
		os.RemoveAll(d.folder)
		d.lock.Close()
		d.staging = staging{}
	}
}
