package cli

import (
	"bytes"
	"fmt"
	"testing"
)

// TestTheScreenIsNotTheirs: what somebody else wrote cannot take over the reader's terminal.
func TestTheScreenIsNotTheirs(t *testing.T) {
	for text, want := range map[string]string{
		"plain, with ümlauts\tand\nlines": "plain, with ümlauts\tand\nlines",
		"\x1b[31m⊘\x1b[0m ours":           "\x1b[31m⊘\x1b[0m ours",
		"\x1b[2Jgone":                     "\ufffd[2Jgone",
		"\x1b]0;title\x07":                "\ufffd]0;title\ufffd",
		"\rover":                          "\ufffdover",
		"\x1b[32mok\x1b[999;999H":         "\x1b[32mok\ufffd[999;999H",
		"\u009b2J":                        "\ufffd2J",
		"user:\u202etnilf":                "user:\ufffdtnilf",
		"a\x00b\x7f":                      "a\ufffdb\ufffd",
		"\x1b[1;31;5;7;8;9;1;2;3;4;5;6;7;8m too much": "\ufffd[1;31;5;7;8;9;1;2;3;4;5;6;7;8m too much",
	} {
		var out bytes.Buffer
		n, err := fmt.Fprint(screen{&out}, text)
		if out.String() != want || err != nil || n != len(text) {
			t.Errorf("%q is shown as %q, not %q (%d bytes, %v)", text, out.String(), want, n, err)
		}
	}
}
