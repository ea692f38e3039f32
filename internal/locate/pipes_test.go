//go:build unix

package locate

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"trevak/internal/storage"
	"trevak/internal/testfolder"
)

func TestPipesAreKept(t *testing.T) {
	testfolder.Make(t, nil)
	if err := syscall.Mkfifo("p", 0o600); err != nil {
		t.Skip(err)
	}
	text := strings.Repeat("a,b\n", 100_000)
	go os.WriteFile("p", []byte(text), 0)
	found, err := Resolve(t.Context(), storage.Stores{"": storage.Disk{}}, []string{"p"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		s, err := found.Objects[0].Open(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(s); err != nil || string(got) != text || found.Objects[0].Size != int64(len(text)) {
			t.Errorf("%d bytes, %v", len(got), err)
		}
		s.Close()
	}
	ctx, stop := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer stop()
	if _, err := Resolve(ctx, storage.Stores{"": storage.Disk{}}, []string{"p"}, nil); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a pipe that nobody writes to: %v", err)
	}
}
