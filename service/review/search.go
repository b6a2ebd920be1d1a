package review

import (
	"strings"

	"gneiss/core/access"
	"gneiss/service/identity"
	"gneiss/wire"
)

// mostFound bounds a search over everything.
const mostFound = 40

// Search finds subjects, objects and policies whose name contains a text.
func (s *Service) Search(c identity.Caller, text string, at wire.Standpoint) (wire.List[wire.Found], error) {
	st := s.identity.State(c)
	out := wire.List[wire.Found]{Items: []wire.Found{}}
	p, err := s.identity.ViewerAt(st, c, at)
	if err != nil {
		return out, err
	}
	text = strings.ToLower(strings.TrimSpace(text))
	add := func(kind, name, says string) {
		if len(out.Items) < mostFound && strings.Contains(strings.ToLower(name), text) {
			out.Items = append(out.Items, wire.Found{Kind: kind, Name: name, Says: says})
		}
	}
	own, err := s.identity.Own(st, c)
	if err != nil {
		return out, err
	}
	reviews := s.identity.Reviews(st, c)
	for _, subject := range st.Model.Subjects(0) {
		if reviews || own.Holds(subject.ID) {
			add(subject.Kind.String(), subject.Ref(), subject.Title)
		}
	}
	p.Each(access.PlatformID, func(o *access.Object) { add(o.Kind.String(), p.Model.Path(o.ID), "") })
	policies, err := s.Policies(c, "")
	if err != nil {
		return out, err
	}
	for _, policy := range policies.Items {
		add("policy", policy.Name, policy.Sentence)
	}
	return out, nil
}
