// Package bufconn is empty: only tests of others ask for it.
package bufconn
