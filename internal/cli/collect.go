package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"strings"

	early "early.trevak"
	_ "early.trevak/pages"
)

// Of the heap, heapFloor bytes are allocated but never touched, so that they take no memory of the machine: the collector,
// which waits until the heap has doubled, does not set to work often on the little that is needed. It first does at firstGoal
// bytes, so that short runs end before.
const (
	heapFloor = 32 << 20
	firstGoal = 96 << 20
)

// heapMinimum is the goal of the first cycle at 100 percent, from which it grows with the percentage (package runtime).
const heapMinimum = 4 << 20

// floor is never read. A builder's memory, unlike that of make, is not cleared, which would touch it.
var floor strings.Builder

// collectLate lets the collector work from now on, the way that the environment asks for where it does.
func collectLate() {
	percent := early.Percent()
	if percent != 100 {
		debug.SetGCPercent(percent)
		return
	}
	floor.Grow(heapFloor)
	afterCycle(func() {
		debug.SetGCPercent(percent)
		afterCycle(dropFloor)
	})
	debug.SetGCPercent(percent * firstGoal / heapMinimum)
}

// afterCycle has something done when the collector has next been at work.
func afterCycle(do func()) {
	type mark struct{ _ [64]byte }
	runtime.AddCleanup(new(mark), func(int) { do() }, 0)
}

// fullHeap is how many bytes in use need no floor.
const fullHeap = 128 << 20

// dropFloor gives the floor up once the heap is large by itself: it counts against the memory that may be taken.
func dropFloor() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	if metrics.Read(live); live[0].Value.Kind() == metrics.KindUint64 && live[0].Value.Uint64() > fullHeap {
		floor.Reset()
		return
	}
	afterCycle(dropFloor)
}
