// Package pages asks the system for large pages before there is anything on the heap: it maps them in far fewer steps then, and
// the processor finds them sooner. Where the system has no large pages nothing changes.
//
// It imports next to nothing, and its path comes before those of all libraries, so that it is initialised before these: what is
// on the heap by then has to be looked through once.
package pages

// largeBytes is how much of the heap, from its beginning, shall be backed by large pages, in bytes.
const largeBytes = 128 << 20
