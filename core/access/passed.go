package access

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// A role that is held with admin option can be passed on. What is passed
// on depends on that right: it ends no later, and it ends when the right is taken.

// MayGive reports whether a subject may give a role on: it holds the role with
// the right to, or has another that does.
func (m *Model) MayGive(giver, role SubjectID, now time.Time) bool {
	_, ok := m.givesUntil(giver, role, now)
	return ok
}

// givesUntil returns until when a subject may give a role on, by the most lasting
// of its ways to the right; zero is without end.
func (m *Model) givesUntil(giver, role SubjectID, now time.Time) (until time.Time, ok bool) {
	if giver == 0 || m.Subject(giver).Removed {
		return time.Time{}, false
	}
	// The most lasting way to each subject that the giver has.
	lasts := map[SubjectID]time.Time{giver: {}}
	for queue := []SubjectID{giver}; len(queue) > 0; queue = queue[1:] {
		for _, e := range m.Subject(queue[0]).Memberships {
			if ended(e.Until, now) {
				continue
			}
			end := earliest(lasts[queue[0]], e.Until)
			if e.Of == role && e.Option {
				if !ok || longer(end, until) {
					until, ok = end, true
				}
			}
			if old, seen := lasts[e.Of]; !seen || longer(end, old) {
				lasts[e.Of] = end
				queue = append(queue, e.Of)
			}
		}
	}
	return until, ok
}

// longer reports whether an end is later than another; zero is never.
func longer(a, b time.Time) bool { return !b.IsZero() && (a.IsZero() || a.After(b)) }

// settlePassed looks again at what was passed on, after a right to pass on may have
// ended. What no longer depends on any is refused, or with cascade taken along; what
// depends on one that ends sooner ends with it.
func (m *Model) settlePassed(now time.Time, cascade bool) error {
	for again := true; again; {
		again = false
		for _, id := range m.givenOn {
			member := m.Subject(id)
			for _, e := range member.Memberships {
				if !e.Passed || ended(e.Until, now) {
					continue
				}
				until, ok := m.givesUntil(e.By, e.Of, now)
				switch {
				case ok && !longer(e.Until, until):
				case ok:
					e.Until = until
					m.putMembership(member, e)
					again = true
				case !cascade:
					return invalid("dependents", "%s", m.saysPassed(now))
				default:
					m.dropMemberships(member, func(x Membership) bool { return x.Of == e.Of && x.By == e.By })
					again = true
				}
				member = m.Subject(id)
			}
		}
	}
	return nil
}

// saysPassed names the memberships that depend on no right any more.
func (m *Model) saysPassed(now time.Time) string {
	var list []string
	for _, id := range m.givenOn {
		for _, e := range m.Subject(id).Memberships {
			if _, ok := m.givesUntil(e.By, e.Of, now); e.Passed && !ended(e.Until, now) && !ok {
				list = append(list, fmt.Sprintf("%s to %s by %s", m.Ref(e.Of), m.Ref(id), m.Ref(e.By)))
			}
		}
	}
	return "others were given it from there: " + strings.Join(list, "; ") + ". Revoke it from them first, or from all of them with cascade"
}

// givesOn reports whether a subject has a membership by a giver, which a new one replaces, so
// that what was passed on by it may have to end.
func (m *Model) givesOn(member *Subject, of, by SubjectID) bool {
	return slices.ContainsFunc(member.Memberships, func(x Membership) bool { return x.Of == of && x.By == by })
}

// putMembership puts a membership in the place of the one by the same giver.
func (m *Model) putMembership(member *Subject, e Membership) {
	up := *member
	up.Memberships = slices.Clone(member.Memberships)
	in := slices.ContainsFunc(member.Memberships, func(x Membership) bool { return x.Of == e.Of })
	if i := slices.IndexFunc(up.Memberships, func(x Membership) bool { return x.Of == e.Of && x.By == e.By }); i >= 0 {
		up.Memberships[i] = e
	} else {
		up.Memberships = append(up.Memberships, e)
	}
	m.setSubject(up)
	if !in {
		down := m.ownSubject(e.Of)
		down.Members = append(down.Members, member.ID)
	}
	if e.Passed && !slices.Contains(m.givenOn, member.ID) {
		m.givenOn = append(m.givenOn[:len(m.givenOn):len(m.givenOn)], member.ID)
	}
}

// dropMemberships takes memberships away from a subject.
func (m *Model) dropMemberships(member *Subject, gone func(Membership) bool) {
	up := *member
	up.Memberships = slices.DeleteFunc(slices.Clone(member.Memberships), gone)
	m.setSubject(up)
	for _, e := range member.Memberships {
		if slices.ContainsFunc(up.Memberships, func(x Membership) bool { return x.Of == e.Of }) {
			continue
		}
		down := *m.Subject(e.Of)
		down.Members = slices.DeleteFunc(slices.Clone(down.Members), func(id SubjectID) bool { return id == member.ID })
		m.setSubject(down)
	}
}

// PassedOn lists the subjects whose memberships that were given on are others in one
// model than in the one before, of which it is a successor.
func PassedOn(before, after *Model) []SubjectID {
	passed := func(m *Model, id SubjectID) []Membership {
		return slices.DeleteFunc(slices.Clone(m.Subject(id).Memberships), func(e Membership) bool { return !e.Passed })
	}
	var ids []SubjectID
	for _, id := range before.givenOn {
		if !slices.Equal(passed(before, id), passed(after, id)) {
			ids = append(ids, id)
		}
	}
	return ids
}
