// Package run is what every run has, whatever it does: what it may use, and how it tells how far it is.
package run

import (
	"runtime"
	"strings"
)

// Budget is what a run may use.
type Budget struct {
	// Workers is how many blocks, and how many columns, are worked on at a time.
	Workers int
	// Events is told of progress, from one goroutine at a time, and Warn of what should be known before rows are written; both
	// may be nil.
	Events func(Event)
	Warn   func(string)
}

// DefaultBudget uses every processor.
func DefaultBudget() Budget { return Budget{Workers: runtime.GOMAXPROCS(0)} }

// Tell tells how far the run is, if somebody wants to know.
func (b Budget) Tell(e Event) {
	if b.Events != nil {
		b.Events(e)
	}
}

// Warned tells of something before rows are written, if there is something to tell.
func (b Budget) Warned(text string) {
	if b.Warn != nil && strings.TrimSpace(text) != "" {
		b.Warn(text)
	}
}

// Stage is what a run is at.
type Stage string

// The stages of runs: to look at records, to count what rows they make, to try things out on a sample, to write rows, to commit them.
const (
	Inferring  Stage = "inferring"
	Counting   Stage = "counting"
	Measuring  Stage = "measuring"
	Writing    Stage = "writing"
	Committing Stage = "committing"
	Comparing  Stage = "comparing"
)

// Event says how far a run is.
type Event struct {
	Stage Stage
	// Objects is how many objects there are, Object the number of the current one, from 1, and Location its place.
	Objects, Object int
	Location        string
	// BytesRead counts the stored bytes read so far, of BytesTotal.
	BytesRead, BytesTotal int64
	// Waits says what the run waits for, where that is something outside of it.
	Waits string
}
