package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"trevak/internal/testfolder"
)

// running is the program while it runs.
type running struct {
	*exec.Cmd
	errs io.ReadCloser
}

// begin starts the program in the working folder.
func begin(t testing.TB, args ...string) *running {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Env = append(os.Environ(), "TREVAK_WAREHOUSE=")
	errs, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return &running{cmd, errs}
}

// tableRows is how many rows a table has, 0 where it is not there.
func tableRows(t testing.TB, name string) (n int64) {
	t.Helper()
	var d struct{ Rows int64 }
	r := trevak(t, "describe", name, "-o", "json")
	if r.code == 0 {
		decode(t, r.out, &d)
	}
	return d.Rows
}

// TestWatchedFolder gets 2,000 objects in bursts, while the watcher is killed 50 times: each object is in the table once.
func TestWatchedFolder(t *testing.T) {
	const objects, kills = 2000, 50
	testfolder.Make(t, map[string]string{"in/first.csv": "object,n\nfirst,1\n"})
	random := rand.New(rand.NewPCG(1, 2))
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; i < objects-1; {
			for range min(1+random.IntN(80), objects-1-i) {
				name := fmt.Sprintf("in/%d/o%04d.csv", i%7, i)
				text := fmt.Sprintf("object,n\no%04d,%d\n", i, i)
				if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
					t.Error(err)
				}
				// Some are written in two steps, some appear whole.
				write := name
				if i%3 == 0 {
					write = name + ".tmp"
				}
				if err := os.WriteFile(write, []byte(text[:9]), 0o644); err != nil {
					t.Error(err)
				}
				if err := os.WriteFile(write, []byte(text), 0o644); err != nil {
					t.Error(err)
				}
				if write != name {
					if err := os.Rename(write, name); err != nil {
						t.Error(err)
					}
				}
				i++
			}
			time.Sleep(time.Duration(random.IntN(120)) * time.Millisecond)
		}
	}()
	args := []string{"watch", "in", "--into", "o.arrived", "--settle", "40ms", "--gather", "20ms", "--every", "200ms", "--log", "off", "--memory", "128MiB"}
	killer := rand.New(rand.NewPCG(3, 4))
	for range kills {
		cmd := begin(t, args...)
		time.Sleep(time.Duration(50+killer.IntN(170)) * time.Millisecond)
		// It may have ended by itself only where something is wrong.
		_ = cmd.Process.Kill()
		var exit *exec.ExitError
		if err := cmd.Wait(); !errors.As(err, &exit) || exit.ExitCode() != -1 {
			t.Fatalf("the watcher ended by itself: %v", err)
		}
	}
	<-done
	must(t, append(args, "--once"))
	out := must(t, []string{"convert", "table:o.arrived", "--to", "-"}).out
	seen := map[string]int{}
	for line := range strings.Lines(out) {
		seen[line]++
	}
	if n := strings.Count(out, "\n"); n != objects || len(seen) != objects {
		t.Errorf("%d rows, %d different, of %d objects", n, len(seen), objects)
	}
}

// listening waits until a watcher tells where it listens, and hands on the other lines of its log.
func listening(t *testing.T, cmd *running) (url string, log *lockedText) {
	t.Helper()
	log = &lockedText{}
	found := make(chan string, 1)
	go func() {
		lines := bufio.NewScanner(cmd.errs)
		for lines.Scan() {
			log.add(lines.Text())
			if _, at, ok := strings.Cut(lines.Text(), "address="); ok {
				found <- at
			}
		}
	}()
	select {
	case url = <-found:
	case <-time.After(10 * time.Second):
		t.Fatal("the watcher does not listen")
	}
	return url, log
}

type lockedText struct {
	mutex sync.Mutex
	lines []string
}

func (l *lockedText) add(line string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.lines = append(l.lines, line)
}

func (l *lockedText) count(part string) (n int) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for _, line := range l.lines {
		if strings.Contains(line, part) {
			n++
		}
	}
	return n
}

func (l *lockedText) wait(t *testing.T, part string, n int) {
	t.Helper()
	for range 300 {
		if l.count(part) >= n {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	t.Fatalf("%q was not said %d times in\n%s", part, n, strings.Join(l.lines, "\n"))
}

// TestNotifications are lost, doubled, out of order and forged; the table has each object once, and nothing from elsewhere.
func TestNotifications(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/.keep": "", "elsewhere/x.csv": "object\nx\n"})
	t.Setenv("NOTICE_SECRET", "harbour")
	cmd := begin(t, "watch", "in", "--into", "o.told", "--listen", "127.0.0.1:0", "--secret-from", "env:NOTICE_SECRET", "--events=false", "--every", "3s",
		"--settle", "1h", "--gather", "20ms")
	defer cmd.Process.Kill()
	url, log := listening(t, cmd)
	dir, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	tell := func(secret string, names ...string) int {
		var events []string
		for i, name := range names {
			events = append(events, fmt.Sprintf(`{"specversion":"1.0","id":"%d","source":"store","type":"made","data":{"path":%q}}`, i, filepath.Join(dir, name)))
		}
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, url+"/events", strings.NewReader("["+strings.Join(events, ",")+"]"))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/cloudevents-batch+json")
		r.Header.Set("Authorization", "Bearer "+secret)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	for i := range 5 {
		if err := os.WriteFile(fmt.Sprintf("in/n%d.csv", i), fmt.Appendf(nil, "object,n\nn%d,%d\n", i, i), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	// Out of order and doubled; one that is not there yet; one from elsewhere; n4's is lost.
	if status := tell("harbour", "in/n3.csv", "in/n1.csv", "in/n3.csv", "in/n9.csv", "elsewhere/x.csv", "in/../elsewhere/x.csv"); status != 204 {
		t.Errorf("%d", status)
	}
	for _, status := range []int{tell("forged", "in/n0.csv"), tell("", "in/n0.csv")} {
		if status != 401 {
			t.Errorf("%d", status)
		}
	}
	log.wait(t, "msg=loaded", 1)
	if n := tableRows(t, "o.told"); n != 2 {
		t.Errorf("%d rows", n)
	}
	tell("harbour", "in/n2.csv", "in/n1.csv", "in/n0.csv")
	log.wait(t, "msg=loaded", 2)
	if n := tableRows(t, "o.told"); n != 4 {
		t.Errorf("%d rows", n)
	}
	for _, path := range []string{"/healthz", "/readyz", "/metrics"} {
		answer, err := http.Get(url + path)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode != 200 || path == "/metrics" && !bytes.Contains(text, []byte(`trevak_rows_total{feed="o.told"} 4`)) {
			t.Errorf("%s: %d %s", path, answer.StatusCode, text)
		}
	}
	if log.count("a notification was not heard") < 4 {
		t.Error("forged and foreign notifications were not told of")
	}
	// It ends in time when it is asked to.
	began := time.Now()
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil || time.Since(began) > 10*time.Second {
		t.Errorf("%v after %s", err, time.Since(began))
	}
	// What nobody told of is found by listing.
	must(t, []string{"watch", "in", "--into", "o.told", "--once", "--settle", "50ms"})
	if n := tableRows(t, "o.told"); n != 5 {
		t.Errorf("%d rows", n)
	}
}

// TestWatchedSheet has feeds of a sheet watched, with one object that is set aside, and nobody else watching it.
func TestWatchedSheet(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/a/1.csv": "id\n1\n", "in/b/1.csv": "id\n7\n", "in/b/bad.csv": "id\n1,2\n3,4,5\n", "day.yaml": `sheet: 1
arrival: {settle: 50ms, gather: 50ms, every: 200ms, tries: 2, again: 100ms}
feeds:
  - {name: a, source: {files: [in/a]}, table: {into: o.a}}
  - {name: b, source: {files: ["in/b/*.csv"]}, table: {into: o.b}, silent_after: 300ms}
`})
	cmd := begin(t, "watch", "day.yaml", "--listen", "127.0.0.1:0")
	defer cmd.Process.Kill()
	_, log := listening(t, cmd)
	log.wait(t, "msg=loaded", 2)
	log.wait(t, "set aside after 2 tries", 1)
	log.wait(t, "nothing arrived for", 1)
	refused(t, 1, []string{"watch", "day.yaml", "--once", "--log", "off"}, "somebody else carries the sheet")
	if err := os.WriteFile("in/a/2.csv", []byte("id\n2\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	log.wait(t, "msg=loaded", 3)
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
	if a, b := tableRows(t, "o.a"), tableRows(t, "o.b"); a != 2 || b != 1 {
		t.Errorf("%d and %d rows", a, b)
	}
	// What was set aside stays so, until it is sent anew.
	must(t, []string{"watch", "day.yaml", "--once", "--log", "off"})
	if err := os.WriteFile("in/b/bad.csv", []byte("id\n8\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, []string{"watch", "day.yaml", "--once", "--log", "off"})
	if b := tableRows(t, "o.b"); b != 2 {
		t.Errorf("%d rows", b)
	}
	must(t, []string{"runs", "--feed", "a"}, "trevak watch")
}

// TestStoppedMidLoad ends within its time in the middle of a load, and the next start loads it.
func TestStoppedMidLoad(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/large.csv": areas(400_000)})
	args := []string{"watch", "in", "--into", "o.large", "--settle", "10ms", "--gather", "10ms", "--partition", "area", "--sort", "id"}
	cmd := begin(t, args...)
	time.Sleep(150 * time.Millisecond)
	began := time.Now()
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, cmd.errs)
	// The exit code tells whether it was in the middle of its work.
	_ = cmd.Wait()
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("it took %s", took)
	}
	must(t, append(args, "--once"))
	if n := tableRows(t, "o.large"); n != 400_000 {
		t.Errorf("%d rows", n)
	}
}

// TestWatchBySubject hears of objects by messages, of a server that speaks as much of the NATS protocol as that takes.
func TestWatchBySubject(t *testing.T) {
	testfolder.Make(t, map[string]string{"in/a.csv": "id\n1\n"})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	messages := make(chan string, 10)
	go speakNATS(listener, messages)
	cmd := begin(t, "watch", "in", "--into", "o.said", "--nats", "nats://"+listener.Addr().String(), "--subject", "harbour.objects", "--events=false",
		"--every", "1h", "--settle", "1h", "--listen", "127.0.0.1:0")
	defer cmd.Process.Kill()
	_, log := listening(t, cmd)
	time.Sleep(200 * time.Millisecond)
	messages <- `no event`
	messages <- `{"specversion":"1.0","id":"1","source":"store","type":"made","data":{"path":"in/a.csv"}}`
	log.wait(t, "msg=loaded", 1)
	if log.count("a notification was not heard") != 1 {
		t.Error("what is no event was not told of")
	}
}

// speakNATS serves one client: it has messages sent to whatever it subscribes to.
func speakNATS(listener net.Listener, messages <-chan string) {
	conn, err := listener.Accept()
	if err != nil {
		return
	}
	defer conn.Close()
	fmt.Fprintf(conn, "INFO {\"server_id\":\"T\",\"version\":\"2.10.0\",\"proto\":1,\"max_payload\":1048576}\r\n")
	lines := bufio.NewScanner(conn)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) == 0 {
			continue
		}
		switch words[0] {
		case "PING":
			fmt.Fprint(conn, "PONG\r\n")
		case "SUB":
			go func() {
				for text := range messages {
					fmt.Fprintf(conn, "MSG %s %s %d\r\n%s\r\n", words[1], words[len(words)-1], len(text), text)
				}
			}()
		}
	}
}

// BenchmarkArrival measures how long one small object takes from its arrival to its commit: as is usual, with little patience, and by
// notification.
func BenchmarkArrival(b *testing.B) {
	b.Setenv("NOTICE_SECRET", "harbour")
	for name, args := range map[string][]string{"usual": {}, "events": {"--settle", "100ms", "--gather", "10ms"},
		"notification": {"--events=false", "--gather", "10ms", "--listen", "127.0.0.1:9751", "--secret-from", "env:NOTICE_SECRET"}} {
		b.Run(name, func(b *testing.B) {
			b.Chdir(b.TempDir())
			if err := os.Mkdir("in", 0o755); err != nil {
				b.Fatal(err)
			}
			cmd := begin(b, append([]string{"watch", "in", "--into", "o.a", "--every", "1h"}, args...)...)
			defer cmd.Process.Kill()
			lines := bufio.NewScanner(cmd.errs)
			for lines.Scan() && !strings.Contains(lines.Text(), "msg=listed") {
			}
			for i := range b.N {
				if err := os.WriteFile(fmt.Sprintf("in/o%d.csv", i), fmt.Appendf(nil, "id\n%d\n", i), 0o644); err != nil {
					b.Fatal(err)
				}
				if name == "notification" {
					post(b, fmt.Sprintf(`{"specversion":"1.0","id":"%d","source":"s","type":"made","data":{"path":"in/o%d.csv"}}`, i, i))
				}
				for lines.Scan() && !strings.Contains(lines.Text(), "msg=loaded") {
				}
			}
		})
	}
}

// post sends a notification to the watcher of the benchmark.
func post(b *testing.B, event string) {
	b.Helper()
	r, err := http.NewRequestWithContext(b.Context(), http.MethodPost, "http://127.0.0.1:9751/events", strings.NewReader(event))
	if err != nil {
		b.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/cloudevents+json")
	r.Header.Set("Authorization", "Bearer harbour")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		b.Fatal(err)
	}
	answer.Body.Close()
}
