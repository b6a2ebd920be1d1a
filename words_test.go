package gneiss

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// banned are phrases that a colleague would not say, and names that hide Go's own words.
// Files of pictures, locks and generated code are left out.
var banned = []*regexp.Regexp{
	regexp.MustCompile(`\banew\b`),
	regexp.MustCompile(`\bwanting\b`),
	regexp.MustCompile(`\bthereby\b`),
	regexp.MustCompile(`\bfor want of\b`),
	regexp.MustCompile(`\bgives? nothing\b`),
	regexp.MustCompile(`\b(bears|hangs? on|rests? on)\b`),
	regexp.MustCompile(`\bdeserves? a look\b`),
	regexp.MustCompile(`\bslip of the keyboard\b`),
	regexp.MustCompile(`\b(put|take) (in|out of) force\b`),
	regexp.MustCompile(`\bturn about\b`),
	regexp.MustCompile(`\bcomes to too much\b`),
	regexp.MustCompile(`\bit is who it was\b`),
	regexp.MustCompile(`\bdoor of [^ ]+ is shut\b`),
	regexp.MustCompile(`\blook(s|ing)? as (a|whom|user|role|somebody|another)\b`),
	regexp.MustCompile(`\b(make|append|any|new|len|copy|delete|problem) := `),
	regexp.MustCompile(`\bfunc (\([^)]*\) )?(make|append|any|len|copy|delete)\(`),
}

// read are the kinds of files whose words are looked at; made are the folders of what
// is built or installed, which are not.
var (
	read = []string{".go", ".md", ".svelte", ".ts", ".sql"}
	made = []string{".git", "node_modules", "dist", "bin", "build"}
)

// widest is how long a line of code may be, in characters. Tables of cases in tests, and what
// Go wants on one line, may be longer.
const widest = 160

func isCode(file string) bool {
	return slices.Contains([]string{".go", ".ts", ".svelte"}, filepath.Ext(file)) && !strings.HasSuffix(file, "_test.go")
}

// TestPlainWords holds that the worst of them stay out of the repository.
func TestPlainWords(t *testing.T) {
	looked := 0
	err := filepath.WalkDir(".", func(file string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && slices.Contains(made, entry.Name()):
			return fs.SkipDir
		case entry.IsDir(), !slices.Contains(read, filepath.Ext(file)), file == "words_test.go", strings.Contains(file, ".gen."):
			return nil
		}
		content, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		looked++
		for i, line := range strings.Split(string(content), "\n") {
			if written := strings.TrimRight(line, "\r"); utf8.RuneCountInString(written) > widest && isCode(file) && !strings.Contains(line, "`json:") {
				t.Errorf("%s:%d is longer than %d characters", file, i+1, widest)
			}
			for _, phrase := range banned {
				if found := phrase.FindString(line); found != "" {
					t.Errorf("%s:%d: %q", file, i+1, found)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if looked < 100 {
		t.Errorf("only %d files were looked at", looked)
	}
}
