package postgres_test

import (
	"strings"
	"testing"

	"gneiss/source/postgres"
)

// FuzzURL looks for URLs that break their reader, and for passwords that get through.
func FuzzURL(f *testing.F) {
	for _, seed := range []string{"postgresql://gneiss@localhost:5432/survey", "postgres://a:b@c/d", "postgresql://a@[::1]/b?sslmode=verify-full&passfile=/x", "postgresql://a@h/b?password=c", "postgresql://", "postgresql://%zz", "postgresql://a@h:99999999/b"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if postgres.Check(text) == nil && (strings.Contains(text, "?password=") || strings.Contains(text, "&password=")) {
			t.Errorf("a password got through: %q", text)
		}
	})
}
