package review

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
)

// TestLikenesses compares the names that are nearly the same, found at once and by what differs, with each name
// beside each, while subjects come, go and get other names.
func TestLikenesses(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 5))
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	name := func() string {
		return pick("user", "group", "role") + ":" + pick("geo", "gae", "géo", "ge") + pick("logist", "logists", "loigst", "l0gist") + pick("", "s", "1", "2")
	}
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	m, kept, most := access.New(), []likeness{}, 0
	for range 600 {
		var next *access.Model
		var err error
		switch r.IntN(3) {
		case 0:
			next, err = m.Apply(now, access.RemoveSubject{Subject: name()})
		case 1:
			next, err = m.Apply(now, access.AddSubject{Subject: name()})
		default:
			_, to, _ := strings.Cut(name(), ":")
			next, err = m.Apply(now, access.RenameSubject{Subject: name(), Name: to})
		}
		if err != nil {
			continue
		}
		d := access.Changed(m, next)
		kept = likenessesNext(kept, next, renamed(m, next, d.Standing()))
		m = next
		var all []likeness
		m.EachSubject(func(a *access.Subject) {
			m.EachSubject(func(b *access.Subject) {
				if a.ID < b.ID && alike(a, b) {
					all = append(all, likeness{a.ID, b.ID})
				}
			})
		})
		inOrder(all)
		if !slices.Equal(all, likenesses(m)) || !slices.Equal(all, kept) {
			t.Fatalf("%v are alike; at once %v are found, by difference %v", all, likenesses(m), kept)
		}
		most = max(most, len(all))
	}
	if most < 10 {
		t.Errorf("at most %d were alike", most)
	}
}
