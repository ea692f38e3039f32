// Package codes has the outcomes of calls.
package codes

import "strconv"

// Code is the outcome of a call.
type Code uint32

// The codes, numbered as gRPC's documentation of status codes has them.
const (
	OK Code = iota
	Canceled
	Unknown
	InvalidArgument
	DeadlineExceeded
	NotFound
	AlreadyExists
	PermissionDenied
	ResourceExhausted
	FailedPrecondition
	Aborted
	OutOfRange
	Unimplemented
	Internal
	Unavailable
	DataLoss
	Unauthenticated
)

func (c Code) String() string { return "Code(" + strconv.Itoa(int(c)) + ")" }
