package storage_test

import (
	"path/filepath"
	"testing"

	"trevak/internal/storage"
	"trevak/internal/storage/storagetest"
)

// TestStores holds every store that can be written to against what the interfaces promise.
func TestStores(t *testing.T) {
	memory := storage.NewMemory()
	for name, on := range map[string]struct {
		store storage.Store
		home  string
	}{
		"disk":             {storage.Disk{}, t.TempDir()},
		"disk by file URL": {storage.Stores{"": storage.Disk{}}, "file://" + filepath.ToSlash(t.TempDir())},
		"memory":           {memory, "mem://harbour/a"},
		"memory of many":   {storage.Stores{"": storage.Disk{}, "mem": memory}, "mem://harbour/b"},
	} {
		t.Run(name, func(t *testing.T) { storagetest.Hold(t, on.store, on.home) })
	}
}
