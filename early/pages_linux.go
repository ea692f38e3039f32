package early

import (
	"runtime"
	"strings"
	"syscall"
	"unsafe"
)

// askLargePages asks the system to back the first bytes of the heap by large pages: it maps them in far fewer steps then, and the processor
// finds them sooner. They are taken from the heap, all but untouched, and given back to it, of whose place in memory the system
// keeps what was asked. Where it has no large pages nothing changes.
func askLargePages(bytes int) {
	advise(bytes)
	runtime.GC()
}

// advise is a function of its own so that nothing holds the memory when it returns.
//
//go:noinline
func advise(bytes int) {
	var b strings.Builder // which, unlike make, does not clear its memory
	b.Grow(bytes)
	b.WriteByte(0)
	_ = syscall.Madvise(unsafe.Slice(unsafe.StringData(b.String()), bytes), syscall.MADV_HUGEPAGE)
}
