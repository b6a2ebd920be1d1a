package review

import (
	"cmp"
	"slices"
	"strings"

	"gneiss/core/access"
)

// names are the paths of objects in a model, to be searched.
type names struct {
	model *access.Model
	paths []string // in lower case, sorted; those that are alike by their own
	ids   []access.ObjectID
}

// named writes the paths of objects, to be searched.
func named(m *access.Model, ids []access.ObjectID) *names {
	type named struct {
		path string
		id   access.ObjectID
	}
	all := make([]named, len(ids))
	for i, id := range ids {
		all[i] = named{strings.ToLower(m.Path(id)), id}
	}
	slices.SortFunc(all, func(a, b named) int {
		return cmp.Or(strings.Compare(a.path, b.path), strings.Compare(m.Path(a.id), m.Path(b.id)))
	})
	out := &names{m, make([]string, len(all)), make([]access.ObjectID, len(all))}
	for i, n := range all {
		out.paths[i], out.ids[i] = n.path, n.id
	}
	return out
}

// namesOf are those of all that there is in a model. They are kept until objects come, go or change.
func (s *Service) namesOf(m *access.Model) *names {
	kept := s.named.Load()
	if kept != nil && kept.model == m {
		return kept
	}
	if kept != nil {
		// Where bundles differ, the one may be another moment's, which shares nothing with the other.
		if d := access.Changed(kept.model, m); !d.Bundles && len(d.Structure()) == 0 {
			kept = &names{m, kept.paths, kept.ids}
			s.named.Store(kept)
			return kept
		}
	}
	var ids []access.ObjectID
	var walk func(access.ObjectID)
	walk = func(id access.ObjectID) {
		for _, child := range m.Object(id).Children {
			if m.Object(child).Kind != access.Column {
				ids = append(ids, child)
				walk(child)
			}
		}
	}
	walk(access.PlatformID)
	kept = named(m, ids)
	s.named.Store(kept)
	return kept
}

// granted is how often each bundle is granted in a model.
type granted struct {
	model  *access.Model
	counts map[access.BundleID]int
}

// granted is that of a model, from that of the one before.
func (s *Service) granted(m *access.Model) map[access.BundleID]int {
	kept := s.bundles.Load()
	if kept != nil && kept.model == m {
		return kept.counts
	}
	next := &granted{m, map[access.BundleID]int{}}
	if kept == nil {
		m.EachGrant(func(g *access.Grant) { next.counts[g.Bundle]++ })
	} else {
		for id, n := range kept.counts {
			next.counts[id] = n
		}
		for _, id := range access.Changed(kept.model, m).Grants {
			if g := kept.model.GrantOf(id); g != nil {
				next.counts[g.Bundle]--
			}
			if g := m.GrantOf(id); g != nil {
				next.counts[g.Bundle]++
			}
		}
	}
	s.bundles.Store(next)
	return next.counts
}
