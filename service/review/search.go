package review

import (
	"slices"
	"strings"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// How much one page of a search has.
const (
	usualFound = 40
	mostFound  = 1000
)

// Search finds subjects, objects and policies whose name contains a text, page by page: after is where one
// ended.
func (s *Service) Search(c identity.Caller, text string, at wire.Standpoint, after string, limit int) (wire.List[wire.Found], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Found]{Items: []wire.Found{}}
	p, err := s.identity.ViewerAt(st, c, at)
	if err != nil {
		return out, err
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return out, err
	}
	kind, last, _ := strings.Cut(after, " ")
	if after != "" && !slices.Contains([]string{"subject", "object", "policy"}, kind) {
		return out, fault.New(fault.Invalid, "bad_cursor", "%.40q is no place where a search ended", after)
	}
	text = strings.ToLower(strings.TrimSpace(text))
	limit = bounded(limit, usualFound, mostFound)
	// add reports whether there is room for more.
	add := func(of string, found wire.Found) bool {
		if len(out.Items) == limit {
			return false
		}
		out.Items = append(out.Items, found)
		out.Next = of + " " + found.Name
		return true
	}
	if after == "" || kind == "subject" {
		reviews := s.identity.Reviews(st, c)
		for _, subject := range st.Model.Subjects(0) {
			ref := subject.Ref()
			if kind == "subject" && access.CompareRefs(ref, last) <= 0 || !strings.Contains(ref, text) || !reviews && !own.Holds(subject.ID) {
				continue
			}
			if !add("subject", wire.Found{Kind: subject.Kind.String(), Name: ref, Says: subject.Title}) {
				return out, nil
			}
		}
	}
	if kind != "policy" {
		if !s.searchObjects(p, text, kind, last, add) {
			return out, nil
		}
	}
	type named struct {
		name  string
		found func() wire.Policy
	}
	var policies []named
	for _, r := range st.Policies.AllRows() {
		if s.identity.ReviewsObject(st, c, r.At()) {
			policies = append(policies, named{r.Name, func() wire.Policy { return wireRows(st, r) }})
		}
	}
	for _, p := range st.Policies.AllColumns() {
		if s.identity.ReviewsObject(st, c, p.At()) {
			policies = append(policies, named{p.Name, func() wire.Policy { return wireColumns(st, p) }})
		}
	}
	slices.SortFunc(policies, func(a, b named) int { return strings.Compare(a.name, b.name) })
	for _, p := range policies {
		if strings.Contains(p.name, text) && (kind != "policy" || p.name > last) &&
			!add("policy", wire.Found{Kind: "policy", Name: p.name, Says: p.found().Sentence}) {
			return out, nil
		}
	}
	out.Next = ""
	return out, nil
}

// searchObjects adds the objects that the standpoint sees whose path contains a text, behind the last where
// one of them was. It reports whether there was room for all.
func (s *Service) searchObjects(p *identity.Viewer, text, kind, last string, add func(string, wire.Found) bool) bool {
	all, from := s.searched(p), 0
	if kind == "object" {
		from, _ = slices.BinarySearch(all.paths, strings.ToLower(last))
	}
	for i := from; i < len(all.paths); i++ {
		if !strings.Contains(all.paths[i], text) {
			continue
		}
		path := p.Model.Path(all.ids[i])
		if kind == "object" && all.paths[i] == strings.ToLower(last) && path <= last {
			continue
		}
		if !add("object", wire.Found{Kind: p.Model.Object(all.ids[i]).Kind.String(), Name: path}) {
			return false
		}
	}
	return true
}

// searched are the names that a standpoint may search. Of what it does not see nothing is compared, so that
// not even the time that a search takes tells of it.
func (s *Service) searched(p *identity.Viewer) *names {
	if p.Reviews && !p.Other {
		return s.namesOf(p.Model)
	}
	var ids []access.ObjectID
	p.Each(access.PlatformID, func(o *access.Object) { ids = append(ids, o.ID) })
	return named(p.Model, ids)
}
