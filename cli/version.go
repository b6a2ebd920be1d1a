package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// build is what is known of how the binary was made.
type build struct {
	Version  string `json:"version" yaml:"version"`
	Revision string `json:"revision,omitempty" yaml:"revision,omitempty"`
	Modified bool   `json:"modified,omitempty" yaml:"modified,omitempty"`
	Time     string `json:"time,omitempty" yaml:"time,omitempty"`
	Go       string `json:"go" yaml:"go"`
	Platform string `json:"platform" yaml:"platform"`
}

func thisBuild() build {
	b := build{Version: "unknown", Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	b.Version = info.Main.Version
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Revision = s.Value
		case "vcs.time":
			b.Time = s.Value
		case "vcs.modified":
			b.Modified = s.Value == "true"
		}
	}
	return b
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show the version, and how it was built", GroupID: "session", Args: words(0, 0),
		RunE: func(*cobra.Command, []string) error {
			b := thisBuild()
			g := grid{
				head: []string{"what", "value"},
				rows: [][]string{{"version", b.Version}, {"revision", b.Revision}, {"built from", b.Time}, {"go", b.Go}, {"platform", b.Platform}},
			}
			if b.Modified {
				g.rows = append(g.rows, []string{"modified", "yes: the revision had changes that are not committed"})
			}
			return a.show(b, g)
		},
	}
}
