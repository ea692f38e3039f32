package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trevak/internal/check"
	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/schema"
	"trevak/internal/table"
)

// check holds the rows of a table against rules.
func (a *app) check() *cobra.Command {
	var checks []string
	cmd := &cobra.Command{
		Use:   "check TABLE",
		Short: "Hold the rows of a table against the rules that it keeps, and others",
		Long: `Check reads a table and counts the rows that break a rule: those that are kept with the table, and those that --check
names. A rule is a condition over the columns, for which a row counts that makes it false; unique(a, b), which holds where no two rows
have the same values there; or column in namespace.table.column, which holds where that table has the value. It ends with exit code 3
where a rule is broken that would stop a load or quarantine records.`,
		Example: `  trevak check orrin.tides --check 'level_m between -5 and 10' --check 'unique(station, taken_at)' -w trevak-demo/warehouse
  trevak check orrin.stations --check 'tell: Water_Depth_m < 100' -w trevak-demo/warehouse`,
		Args: few(1, 1, "a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, err := rulesOf(checks)
			if err != nil {
				return err
			}
			t, err := a.findTable(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			w, err := a.openWarehouse()
			if err != nil {
				return err
			}
			if len(rules)+len(t.Checks()) == 0 {
				return fault.New(fault.Usage, "the table %s keeps no rule, and --check names none", t.Name).
					Try("name one with --check, or keep one with: trevak alter %s --check 'depth_m between 0 and 500'", t.Name)
			}
			checked, err := check.Table(cmd.Context(), w, t, rules)
			if err != nil {
				return err
			}
			if a.json() {
				err = render.CheckedJSON(a.screen(), checked)
			} else {
				render.Checked(a.screen(), checked)
			}
			broken := slices.ContainsFunc(checked.Results, func(r check.Result) bool { return r.Broken > 0 && r.Policy != check.Tell })
			if err == nil && broken {
				return errDiffers
			}
			return err
		},
	}
	cmd.Flags().StringArrayVar(&checks, "check", nil, "hold the rows against this `rule` too; may be repeated")
	return cmd
}

func rulesOf(texts []string) (out []check.Rule, err error) {
	for _, text := range texts {
		r, err := check.Parse(text)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// checksAltered changes the rules that a table keeps, and refuses changes of columns that they speak of.
func checksAltered(add []check.Rule, drop []string) func(*table.Table, schema.Schema) ([]string, []string, error) {
	return func(t *table.Table, then schema.Schema) (rules, changes []string, err error) {
		kept, err := check.Kept(t)
		if err != nil {
			return nil, nil, err
		}
		for _, text := range drop {
			at := slices.IndexFunc(kept, func(r check.Rule) bool { return r.Text == text || r.String() == text })
			if at < 0 {
				return nil, nil, fault.New(fault.Usage, "the table %s keeps no rule %q", t.Name, text).Try("it keeps %s", listRules(kept))
			}
			changes = append(changes, "the rule "+kept[at].Text+" is given up")
			kept = slices.Delete(kept, at, at+1)
		}
		for _, r := range add {
			at := slices.IndexFunc(kept, func(k check.Rule) bool { return k.Text == r.Text })
			switch {
			case at >= 0 && kept[at].Policy == r.Policy:
				continue
			case at >= 0:
				kept[at] = r
			default:
				kept = append(kept, r)
			}
			changes = append(changes, "rows must keep the rule "+r.String())
		}
		for _, r := range kept {
			if err := r.Fits(then); err != nil {
				if slices.ContainsFunc(add, func(own check.Rule) bool { return own.Text == r.Text }) {
					return nil, nil, err
				}
				return nil, nil, fault.New(fault.Usage, "the table keeps the rule %q, which would be none any more", r.Text).
					Try("give it up first, or in the same command: --uncheck %s", word(r.Text))
			}
			rules = append(rules, r.String())
		}
		return rules, changes, nil
	}
}

func listRules(rules []check.Rule) string {
	var list []string
	for _, r := range rules {
		list = append(list, word(r.Text))
	}
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}
