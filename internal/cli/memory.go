package cli

import (
	"math"
	"runtime/debug"

	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/run"
)

// The collector begins to work harder at a part of the memory that the program itself leaves. What the stages hold at a time is
// bounded below it.
const (
	programBytes = 56 << 20
	collected    = 0.86
)

// stateMemory takes the --memory that was stated.
func (a *app) stateMemory() error {
	if a.memoryFlag == "" {
		return nil
	}
	bytes, err := layout.ParseSize("--memory", a.memoryFlag)
	if err != nil {
		return err
	}
	if bytes < run.LeastMemory {
		return fault.New(fault.Usage, "--memory %s is less than the program needs", a.memoryFlag).
			Try("allow at least %dMiB", run.LeastMemory>>20)
	}
	a.stated = bytes
	return nil
}

// memory is what a run may take: what is stated, or else what the environment has the runtime keep to (GOMEMLIMIT, package
// runtime), or else what is usual.
func (a *app) memory() int64 {
	if a.stated > 0 {
		return a.stated
	}
	if limit := debug.SetMemoryLimit(-1); a.limited && limit < math.MaxInt64 {
		return max(limit, run.LeastMemory)
	}
	return run.UsualMemory
}

// keepMemory has the collector keep to the memory. A limit of the environment is left as it is, unless another is stated.
func (a *app) keepMemory() {
	memory := a.memory()
	if !a.limited || a.stated > 0 {
		debug.SetMemoryLimit(int64(collected * float64(memory-programBytes)))
	}
	uploadMemory = memory / uploadShare
	stores = storesWith(0)
	if memory < run.UsualMemory/2 {
		// There is no room for what lets the collector wait.
		floor.Reset()
		debug.SetGCPercent(smallPercent)
	}
}

// uploadShare is the part of the memory that uploads may wait in, those to the stores of each protocol.
const uploadShare = 8

// smallPercent has the collector set to work before the heap is half again as large as what is in use.
const smallPercent = 50
