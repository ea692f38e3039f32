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
	// Memory is about how many bytes the whole program may take; 0 is for UsualMemory.
	Memory int64
	// Events is told of progress, from one goroutine at a time, and Warn of what should be known before rows are written; both
	// may be nil.
	Events func(Event)
	Warn   func(string)
}

// UsualMemory is what runs are made for, LeastMemory what they cannot do with less than.
const (
	UsualMemory = 512 << 20
	LeastMemory = 96 << 20
)

// workerMemory is what a worker takes with the blocks and rows that wait for it, at least.
const workerMemory = 24 << 20

// DefaultBudget uses every processor.
func DefaultBudget() Budget { return NewBudget(UsualMemory) }

// NewBudget uses every processor that so many bytes of memory have a worker's share for.
func NewBudget(memory int64) Budget {
	return Budget{Workers: max(1, min(runtime.GOMAXPROCS(0), int(memory/2/workerMemory))), Memory: memory}
}

// Share is the part of what runs usually take of something that the budget has memory for.
func (b Budget) Share(usual int64) int64 {
	if b.Memory == 0 {
		return usual
	}
	return int64(float64(usual) * float64(b.Memory) / UsualMemory)
}

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
