// Package status makes errors of the outcomes of calls.
package status

import (
	"errors"
	"fmt"

	"google.golang.org/grpc/codes"
)

// Status is the outcome of a call, and an error where it is no good one.
type Status struct {
	code    codes.Code
	message string
}

// Error is the outcome as a text.
func (s *Status) Error() string {
	return fmt.Sprintf("rpc error: code = %s desc = %s", s.code, s.message)
}

// Code is the outcome's code.
func (s *Status) Code() codes.Code { return s.code }

// Message is what is said of the outcome.
func (s *Status) Message() string { return s.message }

// Err is the outcome as an error, nil for a good one.
func (s *Status) Err() error {
	if s == nil || s.code == codes.OK {
		return nil
	}
	return s
}

// New makes an outcome.
func New(c codes.Code, message string) *Status { return &Status{c, message} }

// Error makes an error, nil for a good outcome.
func Error(c codes.Code, message string) error { return New(c, message).Err() }

// Errorf is Error with a text that has values put in.
func Errorf(c codes.Code, format string, a ...any) error { return Error(c, fmt.Sprintf(format, a...)) }

// FromError returns the outcome in an error.
func FromError(err error) (*Status, bool) {
	if err == nil {
		return nil, true
	}
	if s, ok := errors.AsType[*Status](err); ok {
		return s, true
	}
	return New(codes.Unknown, err.Error()), false
}

// Code returns the code of the outcome in an error.
func Code(err error) codes.Code {
	s, _ := FromError(err)
	if s == nil {
		return codes.OK
	}
	return s.code
}
