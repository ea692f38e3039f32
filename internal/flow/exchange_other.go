//go:build !linux

package flow

import "errors"

// exchange is for systems that can exchange two paths at once.
func exchange(_, _ string) error { return errors.ErrUnsupported }
