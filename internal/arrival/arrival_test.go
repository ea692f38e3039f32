package arrival_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"trevak/internal/arrival"
	"trevak/internal/fault"
	"trevak/internal/runlog"
	"trevak/internal/runsheet"
	"trevak/internal/storage"
)

// harbour is a folder that is watched, and what was loaded from it.
type harbour struct {
	t      *testing.T
	dir    string
	mutex  sync.Mutex
	loads  [][]string
	events []arrival.Event
	bad    map[string]error // by name
	down   error            // what every load fails by
	memory map[string]runlog.Waiting
	stop   func()
	w      *arrival.Watcher
}

func (h *harbour) Waiting(context.Context) (out []runlog.Waiting, err error) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	for _, w := range h.memory {
		out = append(out, w)
	}
	return out, nil
}

func (h *harbour) Wait(_ context.Context, w runlog.Waiting) error {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	h.memory[w.Object] = w
	return nil
}

func (h *harbour) Arrived(_ context.Context, object string) error {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	delete(h.memory, object)
	return nil
}

func (h *harbour) load(_ context.Context, objects []storage.Object) error {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	var names []string
	for _, o := range objects {
		names = append(names, filepath.Base(o.URI))
	}
	if h.down != nil {
		return h.down
	}
	for _, o := range objects {
		if err := h.bad[filepath.Base(o.URI)]; err != nil {
			return err
		}
	}
	h.loads = append(h.loads, names)
	return nil
}

// quick finds things fast.
func quick() runsheet.Arrival {
	return runsheet.Arrival{Order: "name", Settle: 60 * time.Millisecond, Every: 50 * time.Millisecond, Gather: 30 * time.Millisecond, Bytes: 1 << 20,
		Tries: 2, Again: 80 * time.Millisecond}
}

func newHarbour(t *testing.T, change func(o *arrival.Options)) *harbour {
	h := &harbour{t: t, dir: t.TempDir(), bad: map[string]error{}, memory: map[string]runlog.Waiting{}, stop: func() {}}
	o := arrival.Options{Arrival: quick(), Feed: "tides", Sources: []string{h.dir}, Store: storage.Disk{}, Load: h.load, Memory: h,
		Tell: func(e arrival.Event) { h.mutex.Lock(); h.events = append(h.events, e); h.mutex.Unlock() }}
	if change != nil {
		change(&o)
	}
	h.w = arrival.New(o)
	return h
}

// start begins to watch until the test ends.
func (h *harbour) start() *harbour {
	ctx, stop := context.WithCancel(h.t.Context())
	done := make(chan error, 1)
	go func() { done <- h.w.Run(ctx) }()
	h.stop = func() {
		stop()
		if err := <-done; err != nil {
			h.t.Error(err)
		}
		h.stop = func() {}
	}
	h.t.Cleanup(func() { h.stop() })
	return h
}

func (h *harbour) put(name, text string) {
	h.t.Helper()
	path := filepath.Join(h.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		h.t.Fatal(err)
	}
}

// loaded are the names of all that was loaded, in order.
func (h *harbour) loaded() string {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	return strings.Join(slices.Concat(h.loads...), " ")
}

// wait waits until something was loaded.
func (h *harbour) wait(want string) {
	h.t.Helper()
	for range 200 {
		if h.loaded() == want {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	h.t.Errorf("loaded %q, want %q", h.loaded(), want)
}

func (h *harbour) count(kind arrival.Kind, why string) (n int64) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	for _, e := range h.events {
		if e.Kind == kind && (why == "" || e.Why == why) {
			n += e.Objects
		}
	}
	return n
}

func TestWhatArrivesIsLoadedOnce(t *testing.T) {
	for name, events := range map[string]bool{"listing": false, "events": true} {
		t.Run(name, func(t *testing.T) {
			h := newHarbour(t, func(o *arrival.Options) {
				if o.Events = events; events {
					o.Every = time.Hour
				}
			})
			h.put("a.csv", "1")
			h.put("sub/b.csv", "2")
			h.put("c.csv.tmp", "3")
			h.put(".hidden.csv", "4")
			h.put("empty.csv", "")
			h.start().wait("a.csv b.csv")
			h.put("later/d.csv", "5")
			h.wait("a.csv b.csv d.csv")
			if events {
				// What is renamed into its place has an event, too.
				if err := os.Rename(filepath.Join(h.dir, "c.csv.tmp"), filepath.Join(h.dir, "c.csv")); err != nil {
					t.Fatal(err)
				}
				h.wait("a.csv b.csv d.csv c.csv")
			}
			h.put("empty.csv", "6")
			for range 100 {
				if strings.HasSuffix(h.loaded(), "empty.csv") {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			if got := h.loaded(); !strings.HasSuffix(got, " empty.csv") || strings.Count(got, "a.csv") != 1 {
				t.Errorf("%q", got)
			}
			if h.count(arrival.Passed, "temporary") != 1 || h.count(arrival.Passed, "hidden") != 1 || h.count(arrival.Passed, "empty") != 1 {
				t.Errorf("%+v", h.events)
			}
		})
	}
}

// TestWhatIsBeingWrittenWaits loads a file only when its writer has let go of it.
func TestWhatIsBeingWrittenWaits(t *testing.T) {
	h := newHarbour(t, nil)
	file, err := os.Create(filepath.Join(h.dir, "slow.csv"))
	if err != nil {
		t.Fatal(err)
	}
	h.start()
	for range 5 {
		if _, err := file.WriteString("x"); err != nil {
			t.Fatal(err)
		}
		time.Sleep(30 * time.Millisecond)
	}
	if _, known := storage.BeingWritten(file.Name()); known {
		// Nothing changes any more, but somebody may write still.
		time.Sleep(300 * time.Millisecond)
	}
	if got := h.loaded(); got != "" {
		t.Errorf("loaded %q while it was written", got)
	}
	file.Close()
	h.wait("slow.csv")
}

func TestMarkers(t *testing.T) {
	for marker, file := range map[string]string{"{name}.done": "a.csv.done", "_READY": "_READY"} {
		h := newHarbour(t, func(o *arrival.Options) { o.Marker = marker })
		h.put("a.csv", "1")
		h.start()
		time.Sleep(250 * time.Millisecond)
		if got := h.loaded(); got != "" {
			t.Errorf("%s: loaded %q without a marker", marker, got)
		}
		h.put(file, "")
		h.wait("a.csv")
		h.stop()
	}
}

// TestBlame loads what is good of a burst, tries the rest again, and sets it aside.
func TestBlame(t *testing.T) {
	refusal := func(name string, h *harbour) error {
		e := fault.New(fault.Input, "it is refused")
		if name != "" {
			e = e.In(filepath.Join(h.dir, name))
		}
		return e
	}
	for name, named := range map[string]bool{"named": true, "unnamed": false} {
		t.Run(name, func(t *testing.T) {
			h := newHarbour(t, nil)
			for i := range 7 {
				h.put(fmt.Sprintf("f%d.csv", i), "1")
			}
			for _, bad := range []string{"f2.csv", "f5.csv"} {
				h.bad[bad] = refusal("", h)
				if named {
					h.bad[bad] = refusal(bad, h)
				}
			}
			h.start()
			for range 200 {
				if h.count(arrival.Aside, "") == 2 {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			loaded := strings.Fields(h.loaded())
			slices.Sort(loaded)
			if got := strings.Join(loaded, " "); got != "f0.csv f1.csv f3.csv f4.csv f6.csv" {
				t.Errorf("%q", got)
			}
			if h.count(arrival.Aside, "") != 2 || h.count(arrival.Trying, "") != 2 {
				t.Errorf("%+v", h.events)
			}
			if _, aside, _ := h.w.Counts(); aside != 2 || len(h.memory) != 2 {
				t.Errorf("%d aside, %v", aside, h.memory)
			}
			// One that is sent anew is tried anew.
			h.mutex.Lock()
			delete(h.bad, "f2.csv")
			h.mutex.Unlock()
			h.put("f2.csv", "mended")
			for range 100 {
				if strings.HasSuffix(h.loaded(), "f2.csv") {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			h.stop()
			if !strings.HasSuffix(h.loaded(), "f2.csv") || len(h.memory) != 1 {
				t.Errorf("%q, %v", h.loaded(), h.memory)
			}
			// What is set aside stays so for the next watcher.
			h.w = arrival.New(h.w.Options)
			h.start()
			time.Sleep(300 * time.Millisecond)
			if _, aside, _ := h.w.Counts(); aside != 1 {
				t.Errorf("%d aside", aside)
			}
		})
	}
}

// TestNobodysFault waits, and blames no object, where the store or the table is at fault.
func TestNobodysFault(t *testing.T) {
	h := newHarbour(t, func(o *arrival.Options) { o.Again = 50 * time.Millisecond })
	h.down = fault.New(fault.Storage, "the table cannot be reached")
	h.put("a.csv", "1")
	h.put("b.csv", "1")
	h.start()
	time.Sleep(400 * time.Millisecond)
	h.mutex.Lock()
	h.down = nil
	h.mutex.Unlock()
	h.wait("a.csv b.csv")
	if h.count(arrival.Failing, "") == 0 || h.count(arrival.Aside, "")+h.count(arrival.Trying, "") > 0 {
		t.Errorf("%+v", h.events)
	}
}

// TestBursts go into one commit each, of so many bytes at most, in their order.
func TestBursts(t *testing.T) {
	h := newHarbour(t, func(o *arrival.Options) { o.Gather, o.Bytes, o.Order = 150*time.Millisecond, 25, "time" })
	for i := range 10 {
		name := fmt.Sprintf("f%d.csv", i)
		h.put(name, "0123456789")
		// The last one is the oldest, and the clock was years ahead when some were written.
		at := time.Now().Add(time.Duration(5-i) * 24 * 365 * time.Hour)
		if err := os.Chtimes(filepath.Join(h.dir, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
	h.start().wait("f9.csv f8.csv f7.csv f6.csv f5.csv f4.csv f3.csv f2.csv f1.csv f0.csv")
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if len(h.loads) != 5 {
		t.Errorf("%v", h.loads)
	}
}

func TestNotices(t *testing.T) {
	h := newHarbour(t, func(o *arrival.Options) { o.Every, o.Settle = time.Hour, time.Hour })
	h.start()
	time.Sleep(100 * time.Millisecond)
	h.put("a.csv", "1")
	h.put("b.csv", "2")
	outside := filepath.Join(t.TempDir(), "x.csv")
	for uri, want := range map[string]bool{filepath.Join(h.dir, "b.csv"): true, "file://" + filepath.Join(h.dir, "a.csv"): true, outside: false,
		filepath.Join(h.dir, "none.csv"): true, filepath.Join(h.dir, "..", "x.csv"): false, "s3://other/a.csv": false} {
		for range 3 {
			if got := h.w.Notice(t.Context(), uri); got != want {
				t.Errorf("%s: %v", uri, got)
			}
		}
	}
	for range 100 {
		if len(strings.Fields(h.loaded())) == 2 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	time.Sleep(100 * time.Millisecond)
	if got := h.loaded(); got != "a.csv b.csv" && got != "b.csv a.csv" {
		t.Errorf("%q", got)
	}
	// After a while in which notices were missed, all is listed.
	listed := h.count(arrival.Listed, "")
	h.w.List()
	for range 100 {
		if h.count(arrival.Listed, "") > listed {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Error("nothing was listed")
}

func TestOnce(t *testing.T) {
	h := newHarbour(t, func(o *arrival.Options) { o.Once = true })
	h.put("a.csv", "1")
	h.put("bad.csv", "1")
	h.bad["bad.csv"] = fault.New(fault.Input, "it is refused").In(filepath.Join(h.dir, "bad.csv"))
	if err := h.w.Run(t.Context()); fault.KindOf(err) != fault.Input || h.loaded() != "a.csv" {
		t.Errorf("%v, %q", err, h.loaded())
	}
	if w := h.memory[filepath.Join(h.dir, "bad.csv")]; w.Tries != 1 || w.Aside {
		t.Errorf("%+v", h.memory)
	}
}
