package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
)

// A setting is one thing that can be configured: by flag, by environment, in a
// file, in that order of precedence.
type setting struct {
	name, value, help string
	from              string // where the value came from
}

func (s setting) environment() string {
	return "GNEISS_" + strings.ToUpper(strings.ReplaceAll(s.name, "-", "_"))
}

// config is the settings of a service, by name.
type config struct {
	settings []*setting
}

func newConfig(c *cobra.Command) *config {
	cfg := &config{settings: []*setting{
		{name: "data", value: "gneiss-data", help: "the data folder"},
		{name: "listen", value: "127.0.0.1:7464", help: "the address to listen on"},
		{name: "sql-listen", value: "", help: "an address for people's own tools, which speak PostgreSQL's protocol; empty: none"},
		{name: "log-level", value: "info", help: "debug, info, warn or error"},
		{
			name:  "source-roots",
			value: "",
			help:  "folders below which folders of SQLite files can be sources, with : between them; DATA/sources when empty",
		},
		{name: "sql-connections", value: "2000", help: "connections to sql-listen at once"},
		{name: "sql-idle", value: "24h", help: "how long a connection to sql-listen may ask nothing"},
		{name: "check-every", value: "15m", help: "how often the access tests and guardrails are run, such as 15m; 0: never"},
		{name: "keep-record", value: "0", help: "how many days the record is kept, 30 at the least; 0: for ever"},
		{name: "trusted-proxies", value: "", help: "addresses or ranges of proxies whose X-Forwarded-For is believed, with commas"},
		{name: "metrics-listen", value: "", help: "an address for /metrics without a token; on the main address it needs one"},
		{
			name:  "accept-loss",
			value: "false",
			help:  "true: open a platform whose record or key is gone, or whose chains do not hold, with what is left; once",
		},
		{name: "tls-cert", value: "", help: "a certificate file, to serve TLS"},
		{name: "tls-key", value: "", help: "its key file"},
	}}
	for _, s := range cfg.settings {
		s.from = "default"
		c.Flags().String(s.name, s.value, s.help+" ("+s.environment()+")")
	}
	c.Flags().String("config", "", "a YAML file of these settings")
	c.Flags().Bool("print-config", false, "print what holds, and where it came from, and stop")
	return cfg
}

// load reads file, environment and flags, each over the one before.
func (cfg *config) load(c *cobra.Command) error {
	path, err := c.Flags().GetString("config")
	if err != nil {
		return err
	}
	inFile := map[string]any{}
	if path != "" {
		content, err := os.ReadFile(path)
		if err != nil {
			return fmt.Errorf("the configuration: %w", err)
		}
		if err := yaml.Unmarshal(content, &inFile); err != nil {
			return fmt.Errorf("the configuration %s: %w", path, err)
		}
	}
	for _, s := range cfg.settings {
		if v, ok := inFile[s.name]; ok {
			s.value, s.from = fmt.Sprint(v), path
			delete(inFile, s.name)
		}
		if v, ok := os.LookupEnv(s.environment()); ok {
			s.value, s.from = v, s.environment()
		}
		if c.Flags().Changed(s.name) {
			if s.value, err = c.Flags().GetString(s.name); err != nil {
				return err
			}
			s.from = "--" + s.name
		}
	}
	for name := range inFile {
		return fmt.Errorf("the configuration %s has an unknown setting: %s", path, name)
	}
	return nil
}

// usual gives a setting another value where nothing is said.
func (cfg *config) usual(c *cobra.Command, name, value string) {
	c.Flags().Lookup(name).DefValue = value // which the help shows
	for _, s := range cfg.settings {
		if s.name == name {
			s.value = value
		}
	}
}

func (cfg *config) get(name string) string {
	for _, s := range cfg.settings {
		if s.name == name {
			return s.value
		}
	}
	panic("no setting " + name)
}

func (cfg *config) print(w io.Writer) {
	for _, s := range cfg.settings {
		fmt.Fprintf(w, "%-16s %-24s %s\n", s.name+":", s.value, s.from)
	}
}

// readable checks a file that a setting names.
func readable(path string) error {
	_, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the file %s is not there", path)
	}
	return err
}
