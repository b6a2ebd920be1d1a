package web_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestButtonsSayWhatTheyAre: a button without a type sends the form around it, which may be another one's.
func TestButtonsSayWhatTheyAre(t *testing.T) {
	found := 0
	err := filepath.WalkDir("src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".svelte" {
			return err
		}
		text, err := os.ReadFile(path)
		for _, tag := range strings.Split(string(text), "<button")[1:] {
			found++
			if !strings.HasPrefix(strings.TrimSpace(tag), "type=") {
				t.Errorf("%s: a button without a type: %.60q", path, tag)
			}
		}
		return err
	})
	if err != nil || found < 100 {
		t.Errorf("%d buttons (%v)", found, err)
	}
}
