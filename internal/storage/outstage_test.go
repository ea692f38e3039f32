package storage

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

// TestOutStageShowsNothingUntilPublished begins twice, and sends what was written last.
func TestOutStageShowsNothingUntilPublished(t *testing.T) {
	var out bytes.Buffer
	s := NewOutStage(&out)
	for _, text := range []string{"first try", "second try"} {
		w, err := s.Create(t.Context(), "")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if err := w.Commit(); err != nil || out.Len() > 0 {
			t.Fatalf("%q, %v", out.String(), err)
		}
	}
	no := errors.New("no")
	if err := s.Publish(t.Context(), func() error { return no }); !errors.Is(err, no) || out.Len() > 0 {
		t.Errorf("%q, %v", out.String(), err)
	}
	if err := s.Publish(t.Context(), func() error { return nil }); err != nil || out.String() != "second try" {
		t.Errorf("%q, %v", out.String(), err)
	}
	if err := errors.Join(s.Publish(t.Context(), func() error { return nil }), s.Discard(t.Context())); err != nil || out.String() != "second try" {
		t.Errorf("%q, %v", out.String(), err)
	}
}

// TestFilesFollowTheUmask holds that locks, files and folders can be shared as far as the umask says.
func TestFilesFollowTheUmask(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there is no umask")
	}
	folder := t.TempDir()
	probe := filepath.Join(folder, "probe")
	if err := os.Mkdir(probe, 0o777); err != nil {
		t.Fatal(err)
	}
	of := func(path string) os.FileMode {
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode().Perm()
	}
	wanted := of(probe)
	release, err := Disk{}.Lock(t.Context(), filepath.Join(folder, "warehouse", "lock"), true)
	if err != nil {
		t.Fatal(err)
	}
	release()
	stage, err := NewStage(t.Context(), Disk{}, filepath.Join(folder, "made"))
	if err != nil {
		t.Fatal(err)
	}
	w, err := stage.Create(t.Context(), "part/file")
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(w.Commit(), stage.Publish(t.Context(), func() error { return nil })); err != nil {
		t.Fatal(err)
	}
	for path, mode := range map[string]os.FileMode{"warehouse": wanted, "warehouse/lock": wanted & 0o666, "made": wanted, "made/part": wanted,
		"made/part/file": wanted & 0o666} {
		if got := of(filepath.Join(folder, path)); got != mode {
			t.Errorf("%s has the mode %o, want %o", path, got, mode)
		}
	}
}
