package access

import (
	"fmt"
	"strings"
)

// NotFound is the error for a name that means nothing in the model.
type NotFound struct {
	Kind  string   // what was looked for: "user", "table", "privilege"
	Name  string   // the name as it was given
	Known []string // the names it could have been, for finding the nearest
}

func (e *NotFound) Error() string { return fmt.Sprintf("no %s %s", e.Kind, e.Name) }

// Invalid is the error for a change or a question that the rules refuse.
type Invalid struct {
	Code string // stable, for programs: "role_loop", "wrong_level"
	Text string // a sentence that says what to do
}

func (e *Invalid) Error() string { return e.Text }

func invalid(code, format string, args ...any) error {
	return &Invalid{code, fmt.Sprintf(format, args...)}
}

func arrow(names []string) string { return strings.Join(names, " → ") }
