// Package credentials has how calls are secured. None is ever made.
package credentials

// TransportCredentials say how a connection is secured.
type TransportCredentials interface{ transport() }

// None secure nothing.
type None struct{}

func (None) transport() {}
