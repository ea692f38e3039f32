// Package reflection is empty: only tests of others ask for it.
package reflection
