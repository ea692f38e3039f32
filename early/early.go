// Package early keeps the garbage collector from setting to work while packages are initialised. At that time there is next to
// nothing to collect, and one processor alone is at work.
//
// Of the packages that wait for no other, those whose import paths come first are initialised first, so the path of this one, a
// module of its own, comes before those of all libraries.
package early

import "runtime/debug"

// percent is what the environment asks for, by GOGC, or the default.
var percent = debug.SetGCPercent(-1)

// Percent returns what debug.SetGCPercent is to be called with to let the collector work as the environment asks for; -1 is for never.
func Percent() int { return percent }
