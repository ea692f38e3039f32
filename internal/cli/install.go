package cli

import (
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/wording"
)

// shells are those that completion is written for, with what writes it.
var shells = map[string]func(a *app, root *cobra.Command) error{
	"bash":       func(a *app, root *cobra.Command) error { return root.GenBashCompletionV2(a.out, true) },
	"zsh":        func(a *app, root *cobra.Command) error { return root.GenZshCompletion(a.out) },
	"fish":       func(a *app, root *cobra.Command) error { return root.GenFishCompletion(a.out, true) },
	"powershell": func(a *app, root *cobra.Command) error { return root.GenPowerShellCompletionWithDesc(a.out) },
}

// completion writes what makes a shell complete command lines.
func (a *app) completion() *cobra.Command {
	names := []string{"bash", "zsh", "fish", "powershell"}
	return &cobra.Command{
		Use:   "completion SHELL",
		Short: "Write what makes a shell complete commands, flags, values, tables and columns",
		Long: `Completion writes a script for bash, zsh, fish or powershell. A shell that has read it completes commands, flags, the values
that they take, tables of the warehouse, and columns of the source or table that the command line names.`,
		Example: `  trevak completion bash > trevak-demo/trevak.bash
  trevak completion zsh > trevak-demo/_trevak
  trevak completion fish > trevak-demo/trevak.fish`,
		ValidArgsFunction: func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return beginning(names, begun), cobra.ShellCompDirectiveNoFileComp
		},
		Args: few(1, 1, "a shell"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.plain("completion, which writes a script"); err != nil {
				return err
			}
			write, ok := shells[args[0]]
			if !ok {
				return fault.New(fault.Usage, "there is no completion for the shell %q", args[0]).Try("%s", wording.Choose(args[0], names))
			}
			return fault.Wrap(fault.Storage, write(a, cmd.Root()), "the script cannot be written")
		},
	}
}

// man writes the manual pages.
func (a *app) man() *cobra.Command {
	return &cobra.Command{
		Use:   "man FOLDER",
		Short: "Write a manual page for each command into a folder",
		Long: `Man writes the manual pages of all commands, trevak.1, trevak-load.1 and so on, into a folder, which is made where there is
none. They are read with man, where that looks into the folder above one called man1, or with man -l FILE.`,
		Example: `  trevak man trevak-demo/man/man1
  trevak man trevak-demo/man/man1 -o json`,
		Args: few(1, 1, "a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o777); err != nil {
				return fault.Wrap(fault.Storage, err, "the folder %s cannot be made", args[0])
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			header := &doc.GenManHeader{Section: "1", Source: "trevak " + version(), Manual: "Trevak", Date: new(time.Time)}
			if built := builtAt(); !built.IsZero() {
				header.Date = &built
			}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return fault.Wrap(fault.Storage, err, "the manual pages cannot be written to %s", args[0])
			}
			pages, err := filepath.Glob(filepath.Join(args[0], "trevak*.1"))
			if err != nil {
				return fault.Wrap(fault.Storage, err, "the folder %s cannot be read", args[0])
			}
			if a.json() {
				return a.writeJSON(struct {
					Folder string   `json:"folder"`
					Files  []string `json:"files"`
				}{args[0], pages})
			}
			a.reportScreen().Printf("%s in %s\n", render.Count(len(pages), "manual page", "manual pages"), args[0])
			return nil
		},
	}
}
