package cli

import (
	"slices"
	"strings"
)

// Comments of a file stay with what they are at when the file is written again: with the same item of
// the same list, or the same field. Those whose place is gone come to the end of the file.

// A fileLine is one line of a file, with what it is by: its own text below the lines that it is in.
type fileLine struct {
	text    string
	above   []string // comment lines before it
	behind  string   // the comment at its end
	key     string   // with all of the item that it begins
	near    string   // with what tells it from others alone
	literal bool     // it is part of a text of several lines
}

// withComments is a file's new text with the comments of the old one.
func withComments(old, text string) string {
	was, rest := linesOf(old)
	is, _ := linesOf(text)
	byKey, byNear := map[string]int{}, map[string]int{}
	count := map[string]int{}
	for i, l := range is {
		count[l.near]++
		byKey[l.key], byNear[l.near] = i, i
	}
	for _, l := range was {
		if len(l.above) == 0 && l.behind == "" {
			continue
		}
		at, found := byKey[l.key]
		if !found && count[l.near] == 1 {
			at, found = byNear[l.near], true
		}
		if !found {
			rest = append(rest, l.above...)
			if l.behind != "" {
				rest = append(rest, l.behind)
			}
			continue
		}
		is[at].above = append(is[at].above, l.above...)
		is[at].behind = l.behind
	}
	var out strings.Builder
	for _, l := range is {
		for _, c := range l.above {
			out.WriteString(c + "\n")
		}
		out.WriteString(l.text)
		if l.behind != "" {
			out.WriteString(" " + l.behind)
		}
		out.WriteByte('\n')
	}
	for _, c := range rest {
		out.WriteString(strings.TrimSpace(c) + "\n")
	}
	return out.String()
}

// linesOf takes a file apart. The comments after its last line are returned by themselves.
func linesOf(text string) (lines []fileLine, rest []string) {
	var above []string
	block := -1 // the indentation of the field whose text of several lines goes on
	for line := range strings.SplitSeq(strings.TrimSuffix(text, "\n"), "\n") {
		trimmed, depth := strings.TrimSpace(line), indentOf(line)
		switch {
		case block >= 0 && (trimmed == "" || depth > block):
			lines = append(lines, fileLine{text: line, literal: true})
			continue
		case trimmed == "" || trimmed == "---":
			continue
		case strings.HasPrefix(trimmed, "#"):
			above = append(above, line)
			continue
		}
		bare, behind := cutComment(line)
		block = -1
		if strings.HasSuffix(bare, " |") || strings.HasSuffix(bare, " |-") {
			block = depth
		}
		lines = append(lines, fileLine{text: bare, above: above, behind: behind})
		above = nil
	}
	name(lines)
	return lines, above
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// cutComment cuts the comment off the end of a line: what follows # behind a space, outside of quotes.
func cutComment(line string) (bare, comment string) {
	quote := rune(0)
	escaped := false
	for i, r := range line {
		switch {
		case escaped:
			escaped = false
		case quote == '"' && r == '\\':
			escaped = true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
		case (r == '"' || r == '\'') && i > 0 && line[i-1] == ' ':
			quote = r
		case r == '#' && i > 0 && line[i-1] == ' ':
			return strings.TrimRight(line[:i], " "), line[i:]
		}
	}
	return strings.TrimRight(line, " "), ""
}

// identifying are the fields that tell an item of a list from others with the same first line.
var identifying = []string{"object", "to", "of", "by"}

// name gives each line what it is by.
func name(lines []fileLine) {
	type within struct {
		depth int
		key   string
	}
	var in []within
	for i := range lines {
		l := &lines[i]
		if l.literal {
			l.key = strings.Repeat("\x00", 1+i) // nothing is looked for by it
			l.near = l.key
			continue
		}
		depth := indentOf(l.text)
		in = slices.DeleteFunc(in, func(w within) bool { return w.depth >= depth })
		parent := ""
		if len(in) > 0 {
			parent = in[len(in)-1].key
		}
		first := strings.TrimSpace(l.text)
		l.key, l.near = parent+"\n"+first, parent+"\n"+first
		if strings.HasPrefix(first, "- ") {
			for _, next := range lines[i+1:] {
				if !next.literal && indentOf(next.text) <= depth {
					break
				}
				field := strings.TrimSpace(next.text)
				l.key += "\n" + field
				if word, _, _ := strings.Cut(field, ":"); slices.Contains(identifying, word) && indentOf(next.text) == depth+2 {
					l.near += "\n" + field
				}
			}
		} else if field, _, found := strings.Cut(first, ":"); found {
			l.near = parent + "\n" + field + ":"
		}
		in = append(in, within{depth, l.near})
	}
}
