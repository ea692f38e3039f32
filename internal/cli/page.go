package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/storage"
)

// pageFlag is the flag for a page to hand on.
type pageFlag struct{ path string }

func (f *pageFlag) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.path, "report", "", "write a page to hand on, with what is known of each column, to an HTML `file`")
}

// wanted reports whether a page is asked for.
func (f *pageFlag) wanted() bool { return f.path != "" }

// check makes sure, before any work is done, that the page can be written: what is there already has to be one of ours.
func (f *pageFlag) check(ctx context.Context) error {
	if !f.wanted() {
		return nil
	}
	if e := strings.ToLower(filepath.Ext(f.path)); e != ".html" && e != ".htm" {
		return fault.New(fault.Usage, "--report %s is no .html file", f.path).Try("name a file that ends in .html")
	}
	o, err := stores.Stat(ctx, f.path)
	if _, flat := storage.FlatOf(stores, f.path); flat && err != nil {
		// Nothing has to be there before, apart from what holds everything.
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	if err != nil {
		if folder, err := stores.Stat(ctx, storage.Dir(f.path)); err != nil || folder.Kind != storage.Folder {
			return fault.New(fault.Usage, "--report %s: there is no folder %s", f.path, storage.Dir(f.path)).Try("make it first")
		}
		return nil
	}
	file, err := stores.Open(ctx, o)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the page %s cannot be replaced", f.path)
	}
	defer file.Close()
	const mostHead = 512
	head, err := io.ReadAll(io.LimitReader(file, mostHead))
	if err != nil || !bytes.Contains(head, []byte(render.PageMark)) {
		return fault.New(fault.Usage, "--report %s is there already, and is no page of this program", f.path).Try("choose another name")
	}
	return nil
}

// write writes the page.
func (f *pageFlag) write(ctx context.Context, draw func(w io.Writer, info render.PageInfo) error) error {
	if !f.wanted() {
		return nil
	}
	w, err := stores.Create(ctx, f.path, storage.Creation{Mode: storage.Replace})
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the page %s cannot be written", f.path)
	}
	if err = draw(w, render.PageInfo{Version: version(), At: time.Now()}); err == nil {
		err = w.Commit()
	}
	if err != nil {
		_ = w.Abort()
	}
	return fault.Wrap(fault.Storage, err, "the page %s cannot be written", f.path)
}
