// Package health is empty: only tests of others ask for it.
package health
