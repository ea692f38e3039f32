package pages

import (
	"runtime"
	"syscall"
	"unsafe"
)

func init() {
	advise(largeBytes)
	runtime.GC()
}

// advise takes memory from the heap, all of it untouched, and asks for large pages in its place, which the system keeps in mind
// when the memory is given back. It is a function of its own so that nothing holds the memory when it returns.
//
//go:noinline
func advise(bytes int) {
	// The heap is empty, so this is fresh from the system and need not be cleared.
	b := make([]byte, bytes)
	_, _, _ = syscall.RawSyscall(syscall.SYS_MADVISE, uintptr(unsafe.Pointer(unsafe.SliceData(b))), uintptr(bytes), syscall.MADV_HUGEPAGE)
}
