package cli

import (
	"io"
	"os"
	"regexp"
	"strings"
	"unicode"
)

// A screen is where people read. What others wrote (a reason, a statement, a value) comes to it with
// everything that can be seen, and with nothing that moves the cursor, changes the title or answers in
// the reader's place: control characters become U+FFFD. Colors pass, which are our own marks.
type screen struct{ to io.Writer }

// color is a mark of ours (ECMA-48, SGR).
var color = regexp.MustCompile("\x1b\\[[0-9;]{0,8}m")

func (s screen) Write(b []byte) (int, error) {
	_, err := io.WriteString(s.to, readable(string(b)))
	return len(b), err
}

func readable(text string) string {
	if !strings.ContainsFunc(text, hidden) {
		return text
	}
	var out strings.Builder
	for {
		at := color.FindStringIndex(text)
		part := text
		if at != nil {
			part = text[:at[0]]
		}
		out.WriteString(strings.Map(func(r rune) rune {
			if hidden(r) {
				return unicode.ReplacementChar
			}
			return r
		}, part))
		if at == nil {
			return out.String()
		}
		out.WriteString(text[at[0]:at[1]])
		text = text[at[1]:]
	}
}

// hidden are control characters, but for those that tables and texts are made of, and those that turn
// the direction of what is read (Unicode, UAX #9).
func hidden(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}

// file is the file that a writer writes to, if it does.
func file(w io.Writer) (*os.File, bool) {
	if s, is := w.(screen); is {
		w = s.to
	}
	f, ok := w.(*os.File)
	return f, ok
}
