// Package encoding is empty: only packages that are not used here ask for it.
package encoding
