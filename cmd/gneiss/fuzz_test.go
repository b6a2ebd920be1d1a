package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/spf13/cobra"
)

// FuzzSettings looks for files of settings that break their reader.
func FuzzSettings(f *testing.F) {
	for _, seed := range []string{"data: x\nlisten: 127.0.0.1:1\n", "nosuch: 1", "- a\n- b", "data: {a: [1, 2]}", "&a [*a]", "data: !!binary x", "", "\t", "a: &x\n  b: *x"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, content []byte) {
		path := filepath.Join(t.TempDir(), "settings.yaml")
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		c := &cobra.Command{}
		cfg := newConfig(c)
		if err := c.Flags().Set("config", path); err != nil {
			t.Fatal(err)
		}
		cfg.load(c) // an error is an answer
	})
}
