// Package cli is the command line: it reads flags and arguments, has the work done by the packages of the core, and hands the
// results to render. Exit codes are 0 for done, 1 for failed, 2 for wrong usage, 3 for refused data.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"math"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"trevak/internal/fault"
	"trevak/internal/load"
	"trevak/internal/locate"
	"trevak/internal/render"
	"trevak/internal/run"
	"trevak/internal/table"
	"trevak/internal/write"
)

// app is what all commands share: where they write and the flags that any of them takes.
type app struct {
	out, err io.Writer
	output   string
	quiet    bool
	// memoryFlag is how much memory may be taken, stated the same in bytes; limited says that the environment limits it.
	memoryFlag string
	stated     int64
	limited    bool
	// wholeHelp says that help was asked for with all flags.
	wholeHelp bool
	warehouse string
	// catalog is the name of the one that tables are found by, empty for the warehouse itself; ctx is that of the command.
	catalog string
	// warehouseFlag and catalogFlag are the flags of the command that runs, nil where it has none.
	warehouseFlag, catalogFlag *pflag.Flag

	ctx context.Context
	// at is the state that tables are read in, empty for the newest.
	at string
	// done says what was done, once something was, and untouched what is as it was until then.
	done, untouched string
}

// patience is how long the program may take to end once it is asked to.
const patience = 5 * time.Second

// Main runs the program with its arguments and returns the exit code.
func Main(args []string) int {
	collectLate()
	// Libraries have nothing to say to users.
	log.SetOutput(io.Discard)
	// A pipe that was closed is an error of the write, not the end of the program: a commit may have been made.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, func() {
		// Whoever asks twice means at once.
		stop()
		// What does not look up from its work ends all the same: at any moment nothing is half done.
		time.Sleep(patience)
		fmt.Fprintln(os.Stderr, "trevak: stopped in the middle of its work; what was not committed does not count")
		os.Exit(1)
	})
	return carryOut(ctx, args, os.Stdout, os.Stderr)
}

// carryOut carries out one command line.
func carryOut(ctx context.Context, args []string, out, errs io.Writer) int {
	results := &outlet{Writer: out}
	a := &app{ctx: ctx, out: results, err: errs, limited: os.Getenv("GOMEMLIMIT") != ""}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(results)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil && results.err != nil {
		return a.lost(results.err)
	}
	if err == nil {
		return 0
	}
	// What was begun to be committed is told as it is.
	begun := errors.As(err, new(*load.PartlyError)) || errors.Is(err, table.ErrUntold)
	if ctx.Err() != nil && errors.Is(err, context.Canceled) && !begun {
		err = fault.New(fault.Storage, "stopped; %s", a.kept())
	}
	if errors.Is(err, errSeenEnough) {
		return 1
	}
	var child *childError
	if errors.As(err, &child) {
		return child.code
	}
	if errors.Is(err, errDiffers) || errors.As(err, new(told)) {
		return exitCode(err)
	}
	a.complain(err)
	if a.json() || asksJSON(args) {
		// Who reads standard output alone learns it, too. Of what cannot be written there is nobody to tell.
		_ = render.ErrorJSON(a.out, withSteps(err), exitCode(err))
	}
	return exitCode(err)
}

// kept says what is there of a run that was stopped.
func (a *app) kept() string {
	switch {
	case a.done != "":
		return "before that it was " + a.done
	case a.untouched != "":
		return a.untouched + ", and nothing was kept"
	}
	return "nothing was changed"
}

// asksJSON reports whether arguments, which may be wrong otherwise, ask for results for programs.
func asksJSON(args []string) bool {
	for i, arg := range args {
		switch {
		case arg == "--":
			return false
		case arg == "-o=json", arg == "-ojson", arg == "--output=json":
			return true
		case (arg == "-o" || arg == "--output") && i+1 < len(args):
			return args[i+1] == "json"
		}
	}
	return false
}

// complain writes an error in one line, which a terminal gets broken between words.
func (a *app) complain(err error) {
	s := a.screenOf(a.err)
	// Lines after the first are an expression with a mark under it.
	first, rest, more := strings.Cut("trevak: "+render.Harmless(withSteps(err).Error()), "\n")
	if s.Width < math.MaxInt32 {
		first = render.Wrap(first, s.Width)
	}
	if more {
		first += "\n" + rest
	}
	fmt.Fprintln(a.err, s.Alarm("trevak:")+strings.TrimPrefix(first, "trevak:"))
	var drift *write.DriftError
	if errors.As(err, &drift) {
		render.Drift(s, drift.Differences)
	}
	var refusal *write.Refusal
	if errors.As(err, &refusal) {
		render.Refusal(s, refusal)
	}
}

func exitCode(err error) int {
	switch fault.KindOf(err) {
	case fault.Usage:
		return 2
	case fault.Input, fault.Schema:
		return 3
	}
	return 1
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "trevak",
		Short: "Turn raw delimited and nested files into partitioned columnar tables",
		Long: `Trevak turns raw delimited and nested files into partitioned columnar tables that any engine can query.

Look at the files, see the schema that would be inferred and why, load them in one atomic commit, check what arrived:

  trevak preview trevak-demo/stations/stations.csv
  trevak infer trevak-demo/observations
  trevak load trevak-demo/observations --into harbour.observations --partition 'day(observed_at),sea_area'
  trevak describe harbour.observations

"trevak demo" writes the files named here and goes through the whole day. Tables lie in ./warehouse, or in the folder that
--warehouse (-w) or TREVAK_WAREHOUSE names.`,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if a.output != "table" && a.output != "json" {
				return fault.Unknown("output", a.output, "table", "json")
			}
			a.warehouseFlag, a.catalogFlag = cmd.Flags().Lookup("warehouse"), cmd.Flags().Lookup("catalog")
			if err := a.stateMemory(); err != nil {
				return err
			}
			a.keepMemory()
			return nil
		},
	}
	root.SetFlagErrorFunc(flagError)
	root.SetUsageFunc(a.usage)
	root.SetHelpFunc(a.help)
	flags := root.PersistentFlags()
	flags.StringVarP(&a.output, "output", "o", "table", "`form` of results, table or json")
	flags.BoolVar(&a.quiet, "quiet", false, "show neither progress nor reports: only what is asked for, and what goes wrong")
	flags.StringVar(&a.memoryFlag, "memory", "",
		"keep to about so much memory, a `size` like 128MiB (default: GOMEMLIMIT where it is set, or 512MiB)")
	// Commands stand in the order of a day's work.
	cobra.EnableCommandSorting = false
	at := func(cmd *cobra.Command) *cobra.Command { return a.addAt(a.addWarehouse(cmd)) }
	in := a.addWarehouse
	root.AddCommand(at(a.preview()), at(a.infer()), at(a.weigh()), at(a.convert()), in(a.load()), in(a.tables()), at(a.describe()),
		at(a.ledger()), at(a.schemaCommand()), in(a.history()), in(a.compare()), in(a.tag()), in(a.rollback()), in(a.publish()),
		at(a.reconcile()), at(a.check()), in(a.upkeep()), in(a.compact()), in(a.expire()), in(a.sweep()), in(a.create()), in(a.deleteCommand()),
		in(a.alter()), in(a.adopt()), at(a.copyCommand()), in(a.relocate()), in(a.drop()), in(a.namespaces()), in(a.grants()),
		in(a.runCommand()), in(a.watch()), a.runs(), a.feedCommand(), a.demo(), a.sandbox(),
		a.completion(),
		a.man(), a.version())
	root.AddCommand(a.topicCommands()...)
	root.SetHelpCommand(helpCommand())
	root.InitDefaultHelpCmd()
	a.addHelp(root)
	a.addCompletion(root)
	root.CompletionOptions.DisableDefaultCmd = true
	asked := root.Flags().BoolP("version", "v", false, "show the version of the program")
	group(root)
	help := root.RunE
	root.RunE = func(cmd *cobra.Command, args []string) error {
		if !*asked {
			return help(cmd, args)
		}
		a.screen().Printf("%s", versionLine())
		return nil
	}
	return root
}

// addWarehouse registers where the tables are that a command reads or writes.
func (a *app) addWarehouse(cmd *cobra.Command) *cobra.Command {
	warehouse := os.Getenv("TREVAK_WAREHOUSE")
	if warehouse == "" {
		warehouse = "warehouse"
	}
	cmd.Flags().StringVarP(&a.warehouse, "warehouse", "w", warehouse, "`folder` that holds the tables; TREVAK_WAREHOUSE sets it too")
	cmd.Flags().StringVar(&a.catalog, "catalog", os.Getenv("TREVAK_CATALOG"),
		"find tables by the catalog of this `name` in trevak.yaml; TREVAK_CATALOG sets it too")
	return cmd
}

// addAt registers in which state tables are read.
func (a *app) addAt(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&a.at, "at", "", "read the table in a `state` it had: the id of a snapshot, a tag or branch, or a time")
	return cmd
}

// defaultWidth is the line length where nothing tells another.
const defaultWidth = 100

// plain refuses -o json for what has a form of its own; what says which it is.
func (a *app) plain(what string) error {
	if !a.json() {
		return nil
	}
	return fault.New(fault.Usage, "-o json has no effect on %s", what).Try("leave it out")
}

// reportScreen returns where reports go of what was done, which nobody sees who asked for quiet.
func (a *app) reportScreen() render.Screen {
	s := a.screen()
	if a.quiet {
		s.Writer = io.Discard
	}
	return s
}

// screen returns where results go.
func (a *app) screen() render.Screen { return a.screenOf(a.out) }

// screenOf returns a place where text goes, with the width that it has or that the environment says.
func (a *app) screenOf(w io.Writer) render.Screen {
	s := render.Screen{Writer: w, Width: math.MaxInt32}
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && columns > 0 {
		s.Width = columns
	}
	if fd, ok := terminal(w); ok {
		s.Styled = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
		s.Width = defaultWidth
		if width, _, err := term.GetSize(fd); err == nil && width > 0 {
			s.Width = width
		}
	}
	return s
}

// terminal returns the descriptor of a writer that is a terminal.
func terminal(w io.Writer) (int, bool) {
	if o, ok := w.(*outlet); ok {
		return terminal(o.Writer)
	}
	file, ok := w.(*os.File)
	if !ok {
		return 0, false
	}
	fd := int(file.Fd())
	return fd, term.IsTerminal(fd)
}

// budget returns what a run may use, and a function to call at its end.
func (a *app) budget() (run.Budget, func()) {
	b := run.NewBudget(a.memory())
	b.Warn = func(text string) { fmt.Fprintln(a.err, "trevak: "+text) }
	fd, ok := terminal(a.err)
	if !ok || a.quiet {
		return b, func() {}
	}
	width, _, err := term.GetSize(fd)
	if err != nil || width <= 0 {
		width = defaultWidth
	}
	p := render.NewProgress(a.err, width)
	b.Events = p.Event
	return b, p.Done
}

// json reports whether results are for programs.
func (a *app) json() bool { return a.output == "json" }

// writeJSON writes a result for programs.
func (a *app) writeJSON(value any) error { return render.JSON(a.out, value) }

func (a *app) openWarehouse() (*table.Warehouse, error) {
	stated := a.warehouseFlag != nil && a.warehouseFlag.Changed
	switch {
	case a.catalog == "", stated && !a.catalogFlag.Changed:
		return table.OpenWarehouse(stores, a.warehouse)
	case stated:
		return nil, fault.New(fault.Usage, "--warehouse and --catalog both say where the tables are").Try("leave one of them out")
	}
	return openCatalog(a.ctx, a.catalog)
}

// isTable reports whether an argument names a table: it says so, or it is namespace.table and nothing in it makes it a
// location.
func isTable(arg string) bool {
	if strings.HasPrefix(arg, "table:") {
		return true
	}
	if _, err := os.Stat(arg); err == nil || strings.ContainsAny(arg, `/\*?[{`) || strings.Contains(arg, "://") {
		return false
	}
	_, err := table.ParseName(arg)
	return err == nil
}

// findTable loads the table that an argument names. Where the argument could as well have meant a file, the error says so.
func (a *app) findTable(ctx context.Context, arg string) (*table.Table, error) {
	name, err := table.ParseName(arg)
	if err != nil {
		return nil, err
	}
	w, err := a.openWarehouse()
	if err != nil {
		return nil, err
	}
	t, err := w.FindAt(ctx, name, a.at)
	var e *fault.Error
	if errors.As(err, &e) && !strings.HasPrefix(arg, "table:") && t == nil && e.Cause == nil {
		e.Reason = fmt.Sprintf("there is neither a file %q here nor a table of that name in the warehouse %s", arg, w.Dir())
		if files := locate.Alike(ctx, stores, arg); len(files) > 0 {
			e.WayOut = "there is " + strings.Join(files, ", ") + "; " + e.WayOut
		}
	}
	return t, err
}
