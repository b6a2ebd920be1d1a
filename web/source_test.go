package web_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// components hands on the text of each component of the console.
func components(t *testing.T, f func(path, text string)) {
	t.Helper()
	err := filepath.WalkDir("src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".svelte" {
			return err
		}
		text, err := os.ReadFile(path)
		f(path, string(text))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestButtonsSayWhatTheyAre: a button without a type sends the form around it, which may be another one's.
func TestButtonsSayWhatTheyAre(t *testing.T) {
	found := 0
	components(t, func(path, text string) {
		for _, tag := range strings.Split(text, "<button")[1:] {
			found++
			if !strings.HasPrefix(strings.TrimSpace(tag), "type=") {
				t.Errorf("%s: a button without a type: %.60q", path, tag)
			}
		}
	})
	if found < 100 {
		t.Errorf("only %d buttons", found)
	}
}

var (
	eachKey    = regexp.MustCompile(`\{#each [^{}]*? as [^{}]*?\(([^()]*(?:\([^()]*\))?[^()]*)\)\}`)
	ofSentence = regexp.MustCompile(`^(line|note|text|\w+\.(says|sentence|text))$`)
)

// TestListsAreNotKeyedBySentences: two lines can say the same, and a list with one key twice breaks its page.
func TestListsAreNotKeyedBySentences(t *testing.T) {
	found := 0
	components(t, func(path, text string) {
		for _, m := range eachKey.FindAllStringSubmatch(text, -1) {
			if found++; ofSentence.MatchString(m[1]) {
				t.Errorf("%s: %s", path, m[0])
			}
		}
	})
	if found < 80 {
		t.Errorf("only %d lists", found)
	}
}
