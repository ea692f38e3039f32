package render

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"trevak/internal/run"
)

// Progress draws one line about a run on a terminal, and removes it at the end. Nothing is drawn in the first second.
type Progress struct {
	w     io.Writer
	width int
	mu    sync.Mutex
	begun time.Time
	drawn time.Time
	shown bool
}

// drawEvery is how often the line is drawn anew.
const drawEvery = 100 * time.Millisecond

// NewProgress prepares to draw on a terminal of that width.
func NewProgress(w io.Writer, width int) *Progress {
	return &Progress{w: w, width: width, begun: time.Now()}
}

// Event takes notice of how far the run is.
func (p *Progress) Event(e run.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if now.Sub(p.begun) < time.Second || now.Sub(p.drawn) < drawEvery {
		return
	}
	p.drawn, p.shown = now, true
	const bar = 24
	done := 0.0
	if e.BytesTotal > 0 {
		done = min(1, float64(e.BytesRead)/float64(e.BytesTotal))
	}
	filled := int(done * bar)
	text := fmt.Sprintf("%-10s %s%s %3.0f%%  %s of %s", e.Stage, strings.Repeat("█", filled), strings.Repeat("░", bar-filled), 100*done,
		Size(e.BytesRead), Size(e.BytesTotal))
	if e.Objects > 1 {
		text += fmt.Sprintf("  object %s of %s", Number(int64(e.Object)), Number(int64(e.Objects)))
	}
	fmt.Fprintf(p.w, "\r\x1b[K%s", cut(text, max(1, p.width-1)))
}

// Done removes the line.
func (p *Progress) Done() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.shown {
		fmt.Fprint(p.w, "\r\x1b[K")
	}
}
