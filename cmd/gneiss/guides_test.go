package main

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"gneiss/demo/demotest"
)

var (
	guideCommand = regexp.MustCompile(`^    gneiss (.*)$`)
	guideWord    = regexp.MustCompile(`"([^"]*)"|(\S+)`)
	guideCode    = regexp.MustCompile(`# exit code (\d)`)
)

// TestGuides carries out each command of docs/guides.md on the demo, in order: they do what
// the guides say, with the exit code that they say, else 0.
func TestGuides(t *testing.T) {
	text, err := os.ReadFile("../../docs/guides.md")
	if err != nil {
		t.Fatal(err)
	}
	opal := signedIn(t, demotest.Start(t), "opal")
	done, guide := 0, ""
	for _, line := range strings.Split(string(text), "\n") {
		if strings.HasPrefix(line, "## ") {
			guide = line[3:]
		}
		m := guideCommand.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		want := 0
		if code := guideCode.FindStringSubmatch(m[1]); code != nil {
			want, _ = strconv.Atoi(code[1])
		}
		command, _, _ := strings.Cut(m[1], "  # ")
		var args []string
		for _, word := range guideWord.FindAllStringSubmatch(command, -1) {
			args = append(args, word[1]+word[2])
		}
		done++
		if out, errs, code := opal.run(args...); code != want || out+errs == "" {
			t.Errorf("%s: gneiss %s ends with %d, wanted %d\n%s%s", guide, command, code, want, out, errs)
		}
	}
	if done < 40 {
		t.Errorf("only %d commands were found", done)
	}
}

// TestSettingsAreDocumented: docs/operators.md has each setting, with what it is by default.
func TestSettingsAreDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/operators.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range newConfig(&cobra.Command{}).settings {
		row := regexp.MustCompile("(?m)^\\|[^|]*`" + s.name + "`[^|]*\\|.*$").FindString(string(text))
		if row == "" || s.value != "" && !strings.Contains(row, "`"+s.value+"`") {
			t.Errorf("the setting %s (%q by default) is not in the table: %q", s.name, s.value, row)
		}
	}
}
