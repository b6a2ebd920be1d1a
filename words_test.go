package gneiss

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
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

// TestPlainWords holds that the worst of them stay out of the repository.
func TestPlainWords(t *testing.T) {
	out, err := exec.Command("git", "ls-files", "*.go", "*.md", "*.svelte", "*.ts", "*.sql").Output()
	if err != nil {
		t.Skip("not a checkout: ", err)
	}
	for _, file := range strings.Fields(string(out)) {
		if file == "words_test.go" || strings.Contains(file, ".gen.") {
			continue
		}
		content, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		for i, line := range strings.Split(string(content), "\n") {
			for _, phrase := range banned {
				if found := phrase.FindString(line); found != "" {
					t.Errorf("%s:%d: %q", file, i+1, found)
				}
			}
		}
	}
}
