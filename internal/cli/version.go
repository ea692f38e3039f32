package cli

import (
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// release is the version of the program where it was built from a tag, which the linker puts here; empty for others.
var release string

// unreleased is the version of a build that is of no release.
const unreleased = "0.0.0-dev"

// version returns the version of the program: that of the release, or else of the module where it was installed as one.
func version() string {
	if release != "" {
		return strings.TrimPrefix(release, "v")
	}
	if info, ok := debug.ReadBuildInfo(); ok && strings.HasPrefix(info.Main.Version, "v") {
		return strings.TrimPrefix(info.Main.Version, "v")
	}
	return unreleased
}

// versionLine is what --version shows.
func versionLine() string {
	return "trevak " + version() + " (" + runtime.Version() + ", " + runtime.GOOS + "/" + runtime.GOARCH + ")\n"
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Show the version of the program",
		Example: `  trevak version
  trevak version -o json`,
		Args: few(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			if !a.json() {
				a.screen().Printf("%s", versionLine())
				return nil
			}
			v := struct {
				Version  string  `json:"version"`
				Revision *string `json:"revision"`
				Go       string  `json:"go"`
				Platform string  `json:"platform"`
			}{version(), nil, runtime.Version(), runtime.GOOS + "/" + runtime.GOARCH}
			if r := built("vcs.revision"); r != "" {
				v.Revision = &r
			}
			return a.writeJSON(v)
		},
	}
}

// built returns what the build noted of the commit that the program was made from, empty where it did not.
func built(key string) string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if s.Key == key {
			return s.Value
		}
	}
	return ""
}

// builtAt is when that commit was made; zero where it is not known.
func builtAt() time.Time {
	at, err := time.Parse(time.RFC3339, built("vcs.time"))
	if err != nil {
		return time.Time{}
	}
	return at
}
