package cli

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/render"
	"trevak/internal/setting"
	"trevak/internal/storage"
	"trevak/internal/table"
	"trevak/internal/upkeep"
)

// shaping is the settings of files that are written anew.
type shaping struct{ flow *setting.Flow }

// addShaping registers them.
func addShaping(cmd *cobra.Command) shaping {
	f := &flowFlags{flow: setting.New()}
	for _, name := range []string{"file-size", "row-group", "codec", "bloom", "page-version"} {
		f.also(cmd, name, "")
	}
	return shaping{f.flow}
}

func (s shaping) options() (layout.Options, error) {
	o, err := s.flow.LayoutOptions()
	if err == nil && o.Columnar.Codec == columnar.Auto {
		err = fault.New(fault.Usage, "--codec auto measures what a load brings, and nothing is loaded here").
			Try("name a codec; weigh tells which pays")
	}
	return o, err
}

// onTable opens the warehouse for a command that changes one table.
func (a *app) onTable(arg string) (*table.Warehouse, table.Name, error) {
	name, err := table.ParseName(arg)
	if err != nil {
		return nil, name, err
	}
	w, err := a.openWarehouse()
	a.untouched = "the table " + name.String() + " is as it was"
	return w, name, err
}

// changes is where the report goes of a command that changes something unless it is a dry run.
func (a *app) changes(dry bool) render.Screen {
	if dry {
		return a.screen()
	}
	return a.reportScreen()
}

// compact writes files of a table anew.
func (a *app) compact() *cobra.Command {
	var onlyIf string
	var all, manifests, dryRun bool
	var shape shaping
	cmd := &cobra.Command{
		Use:   "compact TABLE",
		Short: "Write small files of a table, and those full of deleted rows, anew",
		Long: `Compact brings the small files of each partition together, up to the size of --file-size, leaves out rows that are deleted by
files of their own, puts rows in the table's order, and writes them with the codec and encodings that are usual now. A file that is
large, in order and has few deleted rows stays as it is. It may run beside loads: where one changed a file meanwhile, the files
of that partition stay as it left them, and the others are written anew all the same. --all writes every file anew, those
of a former partitioning too. The former files go when the states that name them expire.`,
		Example: `  trevak compact orrin.observations --dry-run -w trevak-demo/warehouse
  trevak compact orrin.stations --only-if 'files >= 5 or deletes > 10%' -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			if manifests {
				if err := idleBut(cmd, "with --manifests", "manifests"); err != nil {
					return err
				}
				before, after, err := upkeep.BringManifestsTogether(cmd.Context(), w, name)
				if err != nil {
					return err
				}
				if a.json() {
					return render.ManifestsJSON(a.screen(), name.String(), before, after)
				}
				render.Manifests(a.reportScreen(), name.String(), before, after)
				return nil
			}
			c := upkeep.Compaction{Warehouse: w, Table: name, All: all, DryRun: dryRun, OnlyIf: upkeep.Pays}
			if onlyIf != "" {
				if c.OnlyIf, err = upkeep.ParseOnlyIf(onlyIf); err != nil {
					return err
				}
			}
			if c.Layout, err = shape.options(); err != nil {
				return err
			}
			budget, done := a.budget()
			compacted, err := upkeep.Compact(cmd.Context(), c, budget)
			done()
			if err != nil {
				return err
			}
			if compacted.SnapshotID != 0 {
				a.done = "compacted, snapshot " + render.ID(compacted.SnapshotID) + " of " + name.String()
			}
			if a.json() {
				return render.CompactedJSON(a.screen(), compacted)
			}
			render.Compacted(a.changes(dryRun), compacted)
			return nil
		},
	}
	cmd.Flags().StringVar(&onlyIf, "only-if", "", "take a partition only where this `condition` holds: so many of its files become "+
		"fewer, or more than a share of the rows of a file are deleted (default \""+upkeep.Pays.String()+"\")")
	cmd.Flags().BoolVar(&all, "all", false, "write every file anew")
	cmd.Flags().BoolVar(&manifests, "manifests", false, "bring small manifests together instead, and touch no file with rows")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would be written anew, and change nothing")
	shape = addShaping(cmd)
	return cmd
}

// ages are how old states and files are to be.
type ages struct{ older string }

func (x ages) before(flag string) (time.Duration, error) {
	if x.older == "" {
		return 0, nil
	}
	return table.ParseAge(flag, x.older)
}

// expire ends states of a table.
func (a *app) expire() *cobra.Command {
	var older ages
	var keep int
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "expire TABLE --older-than AGE",
		Short: "End old states of a table, and remove the files that only they have",
		Long: `Expire ends states of a table that are older than --older-than, but for the newest --keep of each branch, and removes the files
that no other state has. A state with a tag stays, and so does what a branch needs that is not published yet. What has expired cannot
be read or gone back to any more, and a reader that is at work on it loses its files. With --keep alone all states go but the newest.`,
		Example: `  trevak expire orrin.stations --older-than 7d --keep 3 --dry-run -w trevak-demo/warehouse
  trevak expire orrin.stations --keep 2 -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if older.older == "" && !cmd.Flags().Changed("keep") {
				return fault.New(fault.Usage, "neither --older-than nor --keep says which states end").
					Try("write --older-than 7d, or --keep 3, or both")
			}
			if keep < 1 {
				return fault.New(fault.Usage, "--keep %d is below 1, and a table has a state", keep).Try("keep 1 or more")
			}
			age, err := older.before("--older-than")
			if err != nil {
				return err
			}
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			e := table.Expiry{Keep: keep}
			if older.older != "" {
				e.Before = time.Now().Add(-age)
			}
			expired, err := w.Expire(cmd.Context(), name, e, dryRun)
			if err != nil {
				return err
			}
			if !dryRun && len(expired.Snapshots) > 0 {
				a.done = "done: the states of " + name.String() + " are expired"
			}
			if a.json() {
				return render.ExpiredJSON(a.screen(), name.String(), expired, dryRun)
			}
			render.Expired(a.changes(dryRun), name.String(), expired, dryRun)
			return nil
		},
	}
	cmd.Flags().StringVar(&older.older, "older-than", "", "end states of an `age` beyond this, like 36h, 7d or 2w")
	cmd.Flags().IntVar(&keep, "keep", 1, "keep so many of the newest `states` of each branch in every case")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would end, and change nothing")
	return cmd
}

// safeAge is how old a file has to be to be taken for one that a stopped run has left.
const safeAge = "1d"

// sweep removes what stopped runs have left.
func (a *app) sweep() *cobra.Command {
	var older ages
	var yes bool
	cmd := &cobra.Command{
		Use:   "sweep TABLE|FOLDER",
		Short: "List files that stopped runs have left, and remove them with --yes",
		Long: `Sweep lists the files in the folder of a table that no state of it names and that are older than a safe age: what loads leave that
were killed, and what compactions and deletions left behind when their former states expired. Only files that are called as this
program calls its own are taken, which manifests of other engines are too, and only where no younger file of the same load is there.
The name may be that of a table that was dropped. Of a folder that converts wrote to it lists what interrupted ones left: their
unfinished files, and rows that waited on the disk. --yes removes what is listed.`,
		Example: `  trevak sweep orrin.observations -w trevak-demo/warehouse
  trevak sweep trevak-demo/ --older-than 2h --yes`,
		Args: few(1, 1, "a table or a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			age, err := older.before("--older-than")
			if err != nil {
				return err
			}
			if !isTable(args[0]) {
				if err := idle(cmd, "on folders", "warehouse"); err != nil {
					return err
				}
				return a.sweepFolder(cmd.Context(), args[0], age, yes)
			}
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			swept, err := w.Sweep(cmd.Context(), name, age, yes)
			if err != nil {
				return err
			}
			if a.json() {
				return render.SweptJSON(a.screen(), name.String(), swept)
			}
			render.Swept(a.changes(!yes), name.String(), swept, older.older)
			return nil
		},
	}
	cmd.Flags().StringVar(&older.older, "older-than", safeAge, "take files of an `age` beyond this, which a load that runs may not have")
	cmd.Flags().BoolVar(&yes, "yes", false, "remove what is listed")
	return cmd
}

func (a *app) sweepFolder(ctx context.Context, folder string, age time.Duration, remove bool) error {
	before := time.Now().Add(-age)
	list, err := storage.LeftBehind(ctx, stores, folder, before, remove)
	if storage.Scheme(storage.Path(folder)) == "" {
		list, err = storage.Leftovers(storage.Path(folder), before, remove)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.Storage, "there is no folder %s", folder).Try("name the folder that a convert wrote to, or beside")
	case err != nil:
		return fault.Wrap(fault.Storage, err, "the folder %s cannot be swept", folder)
	}
	swept := &table.Swept{Removed: remove}
	for _, l := range list {
		swept.Left = append(swept.Left, table.Left{URI: l.Path, Bytes: l.Bytes, Modified: l.Modified})
		swept.Bytes += l.Bytes
	}
	if a.json() {
		return render.SweptJSON(a.screen(), folder, swept)
	}
	render.Swept(a.changes(!remove), folder, swept, "")
	return nil
}

// upkeep says what is due, and does it.
func (a *app) upkeep() *cobra.Command {
	var older, left ages
	var keep int
	var yes bool
	var shape shaping
	cmd := &cobra.Command{
		Use:   "upkeep TABLE",
		Short: "Say what upkeep of a table is due and why, and do it with --yes",
		Long: `Upkeep looks whether files are to be compacted, manifests to be brought together, old states to expire, and files to be swept that
no state names. It says why, and which command does it. With --yes it does what is due, in this order.`,
		Example: `  trevak upkeep orrin.observations -w trevak-demo/warehouse
  trevak upkeep orrin.stations --yes -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, name, err := a.onTable(args[0])
			if err != nil {
				return err
			}
			p := upkeep.Plan{Warehouse: w, Table: name, OnlyIf: upkeep.Pays, Keep: keep}
			if p.Layout, err = shape.options(); err != nil {
				return err
			}
			if p.Older, err = older.before("--older-than"); err != nil {
				return err
			}
			if keep < 1 {
				return fault.New(fault.Usage, "--keep %d is below 1, and a table has a state", keep).Try("keep 1 or more")
			}
			if p.Age, err = left.before("--left-for"); err != nil {
				return err
			}
			due, err := p.Look(cmd.Context())
			if err != nil {
				return err
			}
			if yes {
				budget, done := a.budget()
				for i := range due {
					if due[i], err = p.Do(cmd.Context(), due[i].Kind, budget); err != nil {
						break
					}
				}
				done()
				if err != nil {
					return err
				}
			}
			if a.json() {
				return render.DueJSON(a.screen(), name.String(), due)
			}
			render.Due(a.changes(!yes), name.String(), due, render.NewDueFlags(older.older, keep, left.older))
			return nil
		},
	}
	cmd.Flags().StringVar(&older.older, "older-than", "7d", "states of an `age` beyond this are old")
	cmd.Flags().IntVar(&keep, "keep", 3, "but for so many of the newest `states` of each branch")
	cmd.Flags().StringVar(&left.older, "left-for", safeAge, "files that no state names are left behind beyond this `age`")
	cmd.Flags().BoolVar(&yes, "yes", false, "do what is due")
	shape = addShaping(cmd)
	return cmd
}
