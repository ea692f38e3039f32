package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"trevak/internal/render"
)

// release is the version of the program.
const release = "0.1.0"

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Show the version of the program",
		Example: `  trevak version
  trevak version -o json`,
		Args: few(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			v := struct {
				Version  string `json:"version"`
				Revision string `json:"revision,omitempty"`
				Go       string `json:"go"`
				Platform string `json:"platform"`
			}{release, revision(), runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH}
			if a.json() {
				return render.JSON(a.out, v)
			}
			a.screen().Printf("trevak %s (%s, %s)\n", v.Version, v.Go, v.Platform)
			return nil
		},
	}
}

// revision returns the commit that the program was built from, where the build noted it.
func revision() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value
		}
	}
	return ""
}
