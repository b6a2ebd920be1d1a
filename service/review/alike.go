package review

import (
	"cmp"
	"slices"
	"strings"

	"github.com/agext/levenshtein"

	"gneiss/core/access"
	"gneiss/service/say"
	"gneiss/wire"
)

// A likeness is two subjects of one kind whose names differ by one character, which may be a typo.
type likeness struct{ older, newer access.SubjectID }

// alike reports whether the names of two are so. Names that differ in digits differ on purpose.
func alike(a, b *access.Subject) bool {
	return a.ID != b.ID && a.Kind == b.Kind && len(a.Name) >= 5 && len(b.Name) >= 5 &&
		levenshtein.Distance(a.Name, b.Name, nil) == 1 && digits(a.Name) == digits(b.Name)
}

func likenessOf(a, b *access.Subject) likeness { return likeness{min(a.ID, b.ID), max(a.ID, b.ID)} }

// likenesses finds all that there are. Two names that are alike share what is left when each lacks one character
// at most.
func likenesses(m *access.Model) []likeness {
	sharing := map[string][]*access.Subject{}
	found := map[likeness]bool{}
	m.EachSubject(func(s *access.Subject) {
		if len(s.Name) < 5 {
			return
		}
		for i := -1; i < len(s.Name); i++ {
			left := s.Name
			if i >= 0 {
				left = s.Name[:i] + s.Name[i+1:]
			}
			others := sharing[left]
			for _, other := range others {
				if pair := likenessOf(s, other); !found[pair] && alike(s, other) {
					found[pair] = true
				}
			}
			if len(others) == 0 || others[len(others)-1] != s {
				sharing[left] = append(others, s)
			}
		}
	})
	out := make([]likeness, 0, len(found))
	for pair := range found {
		out = append(out, pair)
	}
	return inOrder(out)
}

// fewNamed is for how many subjects it is quicker to compare each with all.
const fewNamed = 8

// likenessesNext is likenesses of a model in which some subjects have come, gone or got other names since before.
func likenessesNext(before []likeness, m *access.Model, changed []access.SubjectID) []likeness {
	if len(changed) > fewNamed {
		return likenesses(m)
	}
	out := slices.DeleteFunc(slices.Clone(before), func(l likeness) bool {
		return slices.Contains(changed, l.older) || slices.Contains(changed, l.newer)
	})
	for i, id := range changed {
		s := m.SubjectOf(id)
		if s == nil {
			continue
		}
		m.EachSubject(func(other *access.Subject) {
			if !slices.Contains(changed[:i], other.ID) && alike(s, other) {
				out = append(out, likenessOf(s, other))
			}
		})
	}
	return inOrder(out)
}

func inOrder(list []likeness) []likeness {
	slices.SortFunc(list, func(a, b likeness) int { return cmp.Or(cmp.Compare(a.newer, b.newer), cmp.Compare(a.older, b.older)) })
	return list
}

// alike says which names are nearly the same.
func (f *finder) alike(list []likeness) {
	for _, l := range list {
		if f.wants("alike_names") {
			newer, older := f.st.Model.Ref(l.newer), f.st.Model.Ref(l.older)
			f.say("alike_names", newer, "", say.Alike.With(newer, older), say.AlikeWhy.With(), wire.Fix{Says: say.DoRemove.With(newer), Remove: newer})
		}
	}
}

// digits are a name's digits.
func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}
