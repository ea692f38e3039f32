package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"trevak/internal/fault"
)

// steps are the commands for what can be done.
var steps = map[fault.Action]func(args []string) string{
	fault.LookAt:    func(args []string) string { return "trevak preview " + word(args[0]) },
	fault.SeeSchema: func([]string) string { return "trevak infer" },
	fault.RenameColumn: func(args []string) string {
		return fmt.Sprintf("trevak alter %s --rename %s", args[0], word(args[1]+"="+args[2]))
	},
	fault.MakeOptional: func(args []string) string {
		return fmt.Sprintf("trevak alter %s --optional %s", args[0], word(args[1]))
	},
	fault.DeleteAll:     func(args []string) string { return "trevak delete " + args[0] + " --where true" },
	fault.DescribeFeeds: func([]string) string { return "trevak feed schema" },
	fault.WriteFiles:    func([]string) string { return "trevak convert" },
	fault.TableHistory:  func(args []string) string { return "trevak history " + args[0] },
}

// word writes an argument as a shell takes it.
func word(text string) string {
	if text != "" && !strings.ContainsAny(text, " \t\n'\"\\$&|;<>()*?[]{}!#~`=") {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// ofTheDisk is the way out of what a disk does not do, "" of anything else.
func ofTheDisk(err error) string {
	switch {
	case errors.Is(err, syscall.ENOSPC):
		return "make room on the disk, and run the command again"
	case errors.Is(err, syscall.EROFS):
		return "the disk can only be read; have it mounted for writing, or name another folder"
	case errors.Is(err, fs.ErrPermission):
		return "ask for the right to write there, or name another folder"
	}
	return ""
}

// withSteps puts the command for what can be done behind the way out of an error.
func withSteps(err error) error {
	var e *fault.Error
	if !errors.As(err, &e) {
		return err
	}
	if e.WayOut == "" {
		e.WayOut = ofTheDisk(err)
	}
	if e.With == nil {
		return err
	}
	e.WayOut += ": " + steps[e.With.Action](e.With.Args)
	e.With = nil
	return err
}
