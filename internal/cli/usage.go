package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trevak/internal/fault"
	"trevak/internal/setting"
	"trevak/internal/wording"
)

// flagError puts into our words what the flags library says of a command line.
func flagError(cmd *cobra.Command, err error) error {
	var (
		missing *pflag.NotExistError
		bare    *pflag.ValueRequiredError
		invalid *pflag.InvalidValueError
		syntax  *pflag.InvalidSyntaxError
	)
	switch {
	case errors.As(err, &missing):
		return unknownFlag(cmd, missing)
	case errors.As(err, &bare):
		return fault.New(fault.Usage, "%s needs a value", spelled(bare.GetSpecifiedName(), bare.GetSpecifiedShortnames())).
			Try("%s", takes(bare.GetFlag()))
	case errors.As(err, &invalid):
		flag := invalid.GetFlag()
		return fault.New(fault.Usage, "--%s %s is not what it takes", flag.Name, fault.Quote(invalid.GetValue())).Try("%s", takes(flag))
	case errors.As(err, &syntax):
		return fault.New(fault.Usage, "%s is no flag", fault.Quote(syntax.GetSpecifiedFlag())).Try("%s", helpOf(cmd))
	}
	return fault.New(fault.Usage, "%s", err).Try("%s", helpOf(cmd))
}

func unknownFlag(cmd *cobra.Command, e *pflag.NotExistError) error {
	short := e.GetSpecifiedShortnames()
	unknown := fault.New(fault.Usage, "there is no flag %s on %s", spelled(e.GetSpecifiedName(), short), cmd.CommandPath())
	if short != "" {
		return unknown.Try("flags of more than one letter have two hyphens; %s", helpOf(cmd))
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if near := wording.Nearest(e.GetSpecifiedName(), names); len(near) > 0 {
		for i := range near {
			near[i] = "--" + near[i]
		}
		return unknown.Try("%s", wording.Meant(near))
	}
	if of := commandsWith(cmd.Root(), e.GetSpecifiedName()); len(of) > 0 {
		return unknown.Try("it is a flag of %s; %s", wording.Some(of), helpOf(cmd))
	}
	return unknown.Try("%s", helpOf(cmd))
}

// spelled writes a flag the way that it was.
func spelled(name, short string) string {
	if short != "" {
		return "-" + name[:1]
	}
	return "--" + name
}

// commandsWith lists the commands that have a flag.
func commandsWith(root *cobra.Command, flag string) []string {
	var out []string
	for _, cmd := range root.Commands() {
		if cmd.Flags().Lookup(flag) != nil {
			out = append(out, strings.TrimPrefix(cmd.CommandPath(), "trevak "))
		}
		out = append(out, commandsWith(cmd, flag)...)
	}
	return out
}

// takes says what a flag takes.
func takes(flag *pflag.Flag) string {
	if s, ok := setting.ByFlag(flag.Name); ok && len(s.Words) > 0 {
		return "it takes " + wording.Either(s.Words)
	}
	switch flag.Value.Type() {
	case "bool":
		return "leave the value out, or write true or false"
	case "int":
		return "write a whole number, like 10"
	case "duration":
		return "write a duration, like " + (90 * time.Second).String() + " or 30s"
	}
	what, _ := pflag.UnquoteUsage(flag)
	if what == "string" || what == "strings" || what == "" {
		what = "value"
	}
	return fmt.Sprintf("write a %s behind it, like --%s %s", what, flag.Name, strings.ToUpper(what))
}

func helpOf(cmd *cobra.Command) string { return "see " + cmd.CommandPath() + " --help" }

// few says that a command takes from least to most arguments, what they are called, and what to write.
func few(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least && len(args) == 0:
			return fault.New(fault.Usage, "%s needs %s", cmd.CommandPath(), what).Try("%s", exampleOf(cmd))
		case len(args) < least || most >= 0 && len(args) > most && most > 0:
			return fault.New(fault.Usage, "%s takes %s, not %s", cmd.CommandPath(), what, quoteArgs(args)).Try("%s", exampleOf(cmd))
		case len(args) > most && most == 0:
			return fault.New(fault.Usage, "%s takes no %q", cmd.CommandPath(), args[0]).Try("%s", helpOf(cmd))
		}
		return nil
	}
}

// exampleOf names the first example of a command.
func exampleOf(cmd *cobra.Command) string {
	first, _, _ := strings.Cut(strings.TrimSpace(cmd.Example), "\n")
	if first == "" {
		return helpOf(cmd)
	}
	return "write it like: " + first
}

// group makes a command of one that has only others below it: it shows its help, and names the nearest of them.
func group(cmd *cobra.Command) *cobra.Command {
	cmd.Args = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return nil
		}
		var names []string
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				names = append(names, c.Name())
			}
		}
		e := fault.New(fault.Usage, "there is no command %q", strings.TrimSpace(cmd.CommandPath()+" "+args[0]))
		if near := wording.Nearest(args[0], names); len(near) > 0 {
			for i := range near {
				near[i] = cmd.CommandPath() + " " + near[i]
			}
			return e.Try("%s", wording.Meant(near))
		}
		slices.Sort(names)
		return e.Try("the commands are %s; %s", strings.Join(names, ", "), helpOf(cmd))
	}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	return cmd
}

// sources checks that at least one source is named, or listed in a file.
func sources(f *flowFlags) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if f.flow.FilesFrom != "" || f.feed.path != "" || len(args) > 0 {
			return nil
		}
		e := fault.New(fault.Usage, "%s needs a source: a file, a folder, a pattern or an address", cmd.CommandPath())
		if piped(os.Stdin) {
			return e.Try("to read what is piped in, name it -: %s -", cmd.CommandPath())
		}
		return e.Try("%s", exampleOf(cmd))
	}
}

// piped reports whether a file gives what another program or a file holds.
func piped(file *os.File) bool {
	info, err := file.Stat()
	return err == nil && info.Mode()&os.ModeDevice == 0
}
