//go:build !linux

package early

// askLargePages does nothing: only Linux has to be asked.
func askLargePages(int) {}
