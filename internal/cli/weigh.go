package cli

import (
	"github.com/spf13/cobra"

	"trevak/internal/render"
	"trevak/internal/setting"
	"trevak/internal/storage"
	"trevak/internal/weigh"
)

func (a *app) weigh() *cobra.Command {
	var flags *flowFlags
	var chart string
	var sorts, partitions []string
	cmd := &cobra.Command{
		Use:   "weigh SOURCE…|TABLE",
		Short: "Measure which codec, encoding, sort order and partitioning pay",
		Long: `Weigh takes a sample spread over the source or table, writes it in memory with every codec and encoding, reads it
back, and shows sizes and speeds for each column and for all. Sort orders and partitionings that are named are tried
as well: how large the files are, and how much of them a filter for one value reads. It ends with the codec to use,
and why. Speeds are those of this machine at this moment.`,
		Example: `  trevak weigh trevak-demo/tides --try-sort station --try-partition 'day(taken_at)'
  trevak weigh trevak-demo/observations --favor size --chart trevak-demo/weigh.svg`,
		Args: func(cmd *cobra.Command, args []string) error { return sources(flags)(cmd, args) },
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			w := weigh.Request{Sorts: sorts, Partitions: partitions}
			name := ""
			if len(args) == 1 && isTable(args[0]) {
				if err := idleBut(cmd, "on a table", "favor", "try-sort", "try-partition", "chart"); err != nil {
					return err
				}
				if w.Table, err = a.findTable(cmd.Context(), args[0]); err != nil {
					return err
				}
				name = w.Table.Name.String()
			} else if err = idle(cmd, "on files", "warehouse"); err != nil {
				return err
			} else {
				task, err := flags.task(cmd, args)
				if err != nil {
					return err
				}
				w.Reading = task.Reading
				name = storage.Shown(w.Reading.Sources[0])
			}
			if w.Favor, err = weigh.ParseFavor(flags.flow.Favor); err != nil {
				return err
			}
			budget, done := a.budget()
			weighing, err := w.Run(cmd.Context(), budget)
			done()
			if err != nil {
				return err
			}
			weighing.Source = name
			return a.weighed(weighing, chart)
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns)
	flags.also(cmd, "favor", "`aim` of the recommendation: size, speed, or balance")
	cmd.Flags().StringArrayVar(&sorts, "try-sort", nil, "a sort `order` to try; may be repeated")
	cmd.Flags().StringArrayVar(&partitions, "try-partition", nil, "partition `fields` to try; may be repeated")
	cmd.Flags().StringVar(&chart, "chart", "", "draw the sizes by codec to a `file` ending in .svg or .png")
	return cmd
}

func (a *app) weighed(w *weigh.Weighing, chart string) error {
	if chart != "" {
		if err := render.WeighingChart(chart, w); err != nil {
			return err
		}
	}
	if a.json() {
		return a.writeJSON(w)
	}
	render.Weighing(a.screen(), w)
	return nil
}
