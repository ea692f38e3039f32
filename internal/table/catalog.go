package table

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"

	"trevak/internal/fault"
)

// catalog finds tables in the folders of a warehouse, as file-based catalogs do: the newest version of the metadata is the table, and version-hint.text names
// it for engines that do not list folders (Iceberg specification, "File System Tables"). Whoever commits holds the warehouse's lock.
type catalog struct {
	dir string
	// stale is why the hint of the last commit could not be written, nil where it was.
	stale error
}

// errNoTable says that a folder holds no table.
var errNoTable = errors.New("there is no such table")

// Names of metadata files, those of other catalogs included, whose tables are read and go on with versions of our own.
var (
	versionName = regexp.MustCompile(`^v([0-9]+)(?:\.gz)?\.metadata\.json$`)
	foreignName = regexp.MustCompile(`^([0-9]{5,})-[0-9a-fA-F-]{36}(?:\.gz)?\.metadata\.json$`)
)

const hintName = "version-hint.text"

// metadataFolder is where the metadata of a table lies.
func (c *catalog) metadataFolder(ident icetable.Identifier) string {
	return filepath.Join(append(append([]string{c.dir}, ident...), "metadata")...)
}

// newest returns the path and number of a table's newest version, 0 where there is none.
func (c *catalog) newest(ident icetable.Identifier) (path string, version int, err error) {
	folder := c.metadataFolder(ident)
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return "", 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	ours := false
	for _, e := range entries {
		for _, pattern := range []*regexp.Regexp{versionName, foreignName} {
			m := pattern.FindStringSubmatch(e.Name())
			if m == nil {
				continue
			}
			n, err := strconv.Atoi(m[1])
			if err == nil && (path == "" || n > version || n == version && pattern == versionName && !ours) {
				path, version, ours = filepath.Join(folder, e.Name()), n, pattern == versionName
			}
		}
	}
	return path, version, nil
}

// LoadTable reads a table as its newest version has it. The error is errNoTable where there is none.
func (c *catalog) LoadTable(ctx context.Context, ident icetable.Identifier) (*icetable.Table, error) {
	path, _, err := c.newest(ident)
	if err != nil {
		return nil, err
	}
	if path == "" {
		return nil, errNoTable
	}
	return icetable.NewFromLocation(ctx, ident, path, localFiles, c)
}

// CommitTable makes the next version of a table, unless a requirement does not hold any more.
func (c *catalog) CommitTable(ctx context.Context, ident icetable.Identifier, requirements []icetable.Requirement, updates []icetable.Update) (icetable.Metadata, string, error) {
	current, err := c.LoadTable(ctx, ident)
	if err != nil {
		return nil, "", err
	}
	_, version, err := c.newest(ident)
	if err != nil {
		return nil, "", err
	}
	for _, r := range requirements {
		if err := r.Validate(current.Metadata()); err != nil {
			return nil, "", err
		}
	}
	next, err := icetable.UpdateTableMetadata(current.Metadata(), updates, current.MetadataLocation())
	if err != nil {
		return nil, "", fmt.Errorf("making the next version of the metadata: %w", err)
	}
	location, err := c.publish(ident, version+1, next)
	return next, location, err
}

// publish writes a version of the metadata beside its place, and gives it its name unless that is taken. Only then does it count; the hint comes last, and when
// it cannot be written the table is as good, but other engines may see the version before.
func (c *catalog) publish(ident icetable.Identifier, version int, metadata icetable.Metadata) (string, error) {
	text, err := json.Marshal(metadata)
	if err != nil {
		return "", err
	}
	folder := c.metadataFolder(ident)
	var disk syncing
	if err := disk.MkdirAll(folder); err != nil {
		return "", err
	}
	place := filepath.Join(folder, fmt.Sprintf("v%d.metadata.json", version))
	beside := filepath.Join(folder, "."+uuid.NewString()+".tmp")
	err = disk.WriteFile(beside, text)
	if err == nil {
		err = disk.RenameNoReplace(beside, place)
	}
	if err != nil {
		os.Remove(beside)
		if errors.Is(err, fs.ErrExist) {
			return "", changedMeanwhile(Name{ident}, "was changed")
		}
		return "", err
	}
	c.stale = c.hint(folder, version)
	return place, nil
}

// hint names a version for other engines. It is written beside its place too: an empty hint would hide the table from them.
func (c *catalog) hint(folder string, version int) error {
	beside := filepath.Join(folder, "."+uuid.NewString()+".tmp")
	var disk syncing
	err := disk.WriteFile(beside, []byte(strconv.Itoa(version)))
	if err == nil {
		err = disk.Rename(beside, filepath.Join(folder, hintName))
	}
	if err != nil {
		os.Remove(beside)
	}
	return err
}

// hinted reports whether the hint names the newest version.
func (c *catalog) hinted(ident icetable.Identifier) (version int, ok bool) {
	_, version, err := c.newest(ident)
	if err != nil || version == 0 {
		return 0, true
	}
	text, err := os.ReadFile(filepath.Join(c.metadataFolder(ident), hintName))
	return version, err == nil && strings.TrimSpace(string(text)) == strconv.Itoa(version)
}

// ErrChanged is the cause of a conflict that another commit to the table brought about: what was done on its former state can be done again on the new one.
var ErrChanged = errors.New("the table is another than when this began")

// changedMeanwhile is the conflict with another commit.
func changedMeanwhile(name Name, what string) *fault.Error {
	e := fault.New(fault.Conflict, "the table %s %s by another load meanwhile", name, what).Try("run the command again; nothing was written")
	e.Cause = ErrChanged
	return e
}
