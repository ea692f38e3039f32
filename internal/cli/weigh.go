package cli

import (
	"io"

	"github.com/spf13/cobra"

	"trevak/internal/render"
	"trevak/internal/setting"
	"trevak/internal/storage"
	"trevak/internal/weigh"
)

func (a *app) weigh() *cobra.Command {
	var flags *flowFlags
	var chart string
	var page pageFlag
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
			if err := page.check(cmd.Context()); err != nil {
				return err
			}
			task, err := flags.task(cmd, args)
			if err != nil {
				return err
			}
			w := weigh.Request{Reading: task.Reading, Profile: page.wanted(), Sorts: sorts, Partitions: partitions}
			if w.Favor, err = weigh.ParseFavor(flags.flow.Favor); err != nil {
				return err
			}
			budget, done := a.budget()
			weighing, err := w.Run(cmd.Context(), budget)
			done()
			if err != nil {
				return err
			}
			weighing.Source = storage.Shown(w.Sources[0])
			if weighing.Table != "" {
				weighing.Source = weighing.Table
			}
			if err := page.write(cmd.Context(), func(out io.Writer, info render.PageInfo) error {
				return render.WeighingPage(out, weighing, info)
			}); err != nil {
				return err
			}
			return a.weighed(weighing, chart)
		},
	}
	flags = addFlow(cmd, setting.Reading, setting.Columns)
	flags.table = a.findTable
	flags.also(cmd, "favor", "`aim` of the recommendation: size, speed, or balance")
	cmd.Flags().StringArrayVar(&sorts, "try-sort", nil, "a sort `order` to try; may be repeated")
	cmd.Flags().StringArrayVar(&partitions, "try-partition", nil, "partition `fields` to try; may be repeated")
	cmd.Flags().StringVar(&chart, "chart", "", "draw the sizes by codec to a `file` ending in .svg or .png")
	page.add(cmd)
	first(cmd, "try-sort", "try-partition", "favor", "chart", "report", "type", "only")
	return cmd
}

func (a *app) weighed(w *weigh.Weighing, chart string) error {
	if chart != "" {
		if err := render.WeighingChart(chart, w); err != nil {
			return err
		}
	}
	if a.json() {
		return render.WeighingJSON(a.screen(), w)
	}
	render.Weighing(a.screen(), w)
	return nil
}
