package render

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"trevak/internal/run"
)

// Progress draws one line about a run on a terminal, and removes it at the end: the stage, how far it is, how fast, how long it may
// still take, and what it waits for. Nothing is drawn in the first second.
type Progress struct {
	w     io.Writer
	width int
	stop  chan struct{}
	ended sync.WaitGroup

	mu    sync.Mutex
	begun time.Time
	drawn time.Time
	shown bool
	last  run.Event
	heard time.Time // when the last event came
	stage time.Time // when the stage began
	from  int64     // what was read before the stage began
}

const (
	// drawEvery is how often the line is drawn anew.
	drawEvery = 100 * time.Millisecond
	// tickEvery is how often it is drawn where nothing new is heard.
	tickEvery = time.Second
	// silence is after how long the line says that nothing new is heard.
	silence = 3 * time.Second
	// settled is how long a stage runs before its speed tells how long it will take.
	settled = 2 * time.Second
)

// NewProgress prepares to draw on a terminal of that width. Done ends it.
func NewProgress(w io.Writer, width int) *Progress {
	now := time.Now()
	p := &Progress{w: w, width: width, stop: make(chan struct{}), begun: now, heard: now}
	p.ended.Go(p.tick)
	return p
}

// tick draws the line while nothing new is heard.
func (p *Progress) tick() {
	ticker := time.NewTicker(tickEvery)
	defer ticker.Stop()
	for {
		select {
		case <-p.stop:
			return
		case now := <-ticker.C:
			p.mu.Lock()
			if p.last.Stage != "" {
				p.draw(now)
			}
			p.mu.Unlock()
		}
	}
}

// Event takes notice of how far the run is.
func (p *Progress) Event(e run.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if e.Stage != p.last.Stage {
		p.stage, p.from = now, e.BytesRead
	}
	p.last, p.heard = e, now
	p.draw(now)
}

// draw draws the line, unless it was just drawn.
func (p *Progress) draw(now time.Time) {
	if now.Sub(p.begun) < time.Second || now.Sub(p.drawn) < drawEvery {
		return
	}
	p.drawn, p.shown = now, true
	fmt.Fprintf(p.w, "\r\x1b[K%s", cut(clean(p.line(now)), max(1, p.width-1)))
}

// line is what there is to tell.
func (p *Progress) line(now time.Time) string {
	e, bar := p.last, 24
	if p.width < 100 {
		bar = 10
	}
	done := 0.0
	if e.BytesTotal > 0 {
		done = min(1, float64(e.BytesRead)/float64(e.BytesTotal))
	}
	filled := int(done * float64(bar))
	text := fmt.Sprintf("%-10s %s%s %3.0f%%  %s of %s", e.Stage, strings.Repeat("█", filled), strings.Repeat("░", bar-filled), 100*done,
		Size(e.BytesRead), Size(e.BytesTotal))
	switch took, quiet := now.Sub(p.stage), now.Sub(p.heard); {
	case e.Waits != "":
		return text + fmt.Sprintf("  waits for %s, %s", e.Waits, span(quiet))
	case quiet >= silence:
		what := e.Location
		if what == "" {
			what = "the work at hand"
		}
		return text + fmt.Sprintf("  waits for %s, %s", what, span(quiet))
	case took > 0 && e.BytesRead > p.from && e.Stage != run.Committing:
		rate := float64(e.BytesRead-p.from) / took.Seconds()
		text += fmt.Sprintf("  %s/s", Size(int64(rate)))
		if left := e.BytesTotal - e.BytesRead; took >= settled && left > 0 {
			text += fmt.Sprintf("  %s left", span(time.Duration(float64(left)/rate*float64(time.Second))))
		}
	}
	if e.Objects > 1 {
		text += fmt.Sprintf("  object %s of %s", Number(int64(e.Object)), Number(int64(e.Objects)))
	}
	return text
}

// span writes a length of time in whole seconds, minutes or hours.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()+0.5))
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Done removes the line.
func (p *Progress) Done() {
	select {
	case <-p.stop:
		return
	default:
		close(p.stop)
	}
	p.ended.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.shown {
		fmt.Fprint(p.w, "\r\x1b[K")
	}
}
