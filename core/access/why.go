package access

import (
	"slices"
	"sort"
	"strings"
)

// A Path is one way by which a standing has a privilege: from the session's
// subject, through groups and roles, to the grant.
type Path struct {
	Subjects []SubjectID
	Grant    *Grant
}

// mostPaths bounds the answer: roles that build on each other can make more
// ways to one grant than anybody could read.
const mostPaths = 100

// Paths lists the ways by which the session holds p on the object, the doors
// left aside, shortest first.
func (st *Rights) Paths(p Privilege, object ObjectID) []Path {
	var paths []Path
	for _, g := range st.Granting(p, object) {
		paths = append(paths, st.pathsTo(g)...)
	}
	sort.SliceStable(paths, func(i, j int) bool { return len(paths[i].Subjects) < len(paths[j].Subjects) })
	return paths[:min(len(paths), mostPaths)]
}

// Granting lists the grants in effect by which the session holds p on the object,
// the doors left aside.
func (st *Rights) Granting(p Privilege, object ObjectID) []*Grant {
	m := st.Model
	var out []*Grant
	for at := object; ; at = m.Object(at).Parent {
		st.each(at, func(g *Grant) {
			if m.reaches(g, p, object) || at == object && m.onColumn(g, p, object) {
				out = append(out, g)
			}
		})
		if at == PlatformID {
			return out
		}
	}
}

// pathsTo walks down from a grant's subject to the session's.
func (st *Rights) pathsTo(g *Grant) []Path {
	var paths []Path
	var walk func(id SubjectID, up []SubjectID)
	walk = func(id SubjectID, up []SubjectID) {
		if len(paths) == mostPaths {
			return
		}
		up = append([]SubjectID{id}, up...)
		if id == st.Standpoint.Subject {
			paths = append(paths, Path{up, g})
			return
		}
		for _, step := range st.steps {
			if step.to == id {
				walk(step.from, up)
			}
		}
	}
	walk(g.Subject, nil)
	return paths
}

// Covering returns another grant in effect, without an end, that gives the
// session's subject all that g does, or nil. Of two that cover each other the
// older one is the covering one.
func (st *Rights) Covering(g *Grant) *Grant {
	m := st.Model
	gives := m.Gives(g)
	var found *Grant
	for at := g.Object; found == nil; at = m.Object(at).Parent {
		st.each(m.countsAt(at), func(h *Grant) {
			if h.ID == g.ID || !h.ends.IsZero() || m.Gives(h)&gives != gives || !m.coversAll(h, g) {
				return
			}
			same := h.Target == g.Target && m.Gives(h) == gives && h.Subject == g.Subject
			if !same || h.ID < g.ID {
				found = h
			}
		})
		if at == PlatformID {
			break
		}
	}
	return found
}

// coversAll reports whether h gives wherever g does.
func (m *Model) coversAll(h, g *Grant) bool {
	if h.Target == g.Target {
		return true
	}
	if m.Gives(g).Has(Usage) && h.Privilege != All || !m.Covers(h.Target, g.Object) {
		return false
	}
	return g.Pattern == "" || h.Pattern == "" || h.Object != g.Object // a pattern beside a pattern
}

// A Need is a privilege that is missing on an object.
type Need struct {
	Privilege Privilege
	Object    ObjectID
}

// NeedText writes a need: "SELECT on survey.assay.results".
func (m *Model) NeedText(n Need) string { return n.Privilege.String() + " on " + m.Path(n.Object) }

// ParseNeed reads what NeedText has written.
func (m *Model) ParseNeed(text string) (Need, error) {
	privilege, path, _ := strings.Cut(text, " on ")
	p, err := ParsePrivilege(privilege)
	if err != nil {
		return Need{}, err
	}
	o, err := m.Lookup(path)
	if err != nil {
		return Need{}, err
	}
	return Need{p, o.ID}, nil
}

// Missing lists what would have to be granted for the session to use p on the
// object: the shut doors first, outermost first, then the privilege itself.
func (st *Rights) Missing(p Privilege, object ObjectID) []Need {
	v := st.Resolve(object)
	if v.Allowed.Has(p) {
		return nil
	}
	var needs []Need
	if behindDoors.Has(p) || p == Usage {
		for _, door := range v.Shut {
			needs = append(needs, Need{Usage, door})
		}
	}
	if !v.Held.Has(p) && !slices.Contains(needs, Need{p, object}) {
		needs = append(needs, Need{p, object})
	}
	return needs
}

// A Fix is one way to give a session what it lacks: a role or group to give it,
// or grants to make.
type Fix struct {
	Give   SubjectID // the role or group to give, or zero
	Grants []Need    // the grants to make otherwise
	To     SubjectID // who to give it to, or to grant it to
	Opens  int       // relations that the subject could newly read with it
}

// mostTried bounds the groups and roles that are weighed as a fix.
const mostTried = 60

// Fixes lists ways to let the session use p on the object, the smallest first:
// the one that opens the fewest relations beside what is asked. A grant to the
// role that carries the privilege but lacks the door comes before a grant to
// the subject itself.
func (st *Rights) Fixes(p Privilege, object ObjectID, c *Census) []Fix {
	needs := st.Missing(p, object)
	if len(needs) == 0 || st.Model.missing(object) {
		return nil
	}
	m, subject := st.Model, st.Standpoint.Subject
	if lane := st.laneNeed(p); lane != nil {
		needs = append([]Need{*lane}, needs...)
	}
	var fixes []Fix
	if paths := st.Paths(p, object); len(paths) > 0 {
		carrier := paths[0].Grant.Subject
		fixes = append(fixes, Fix{Grants: needs, To: carrier})
	}
	able := c.Held(needs[0].Privilege, needs[0].Object)
	for _, n := range needs[1:] {
		able.InPlaceIntersection(c.Held(n.Privilege, n.Object))
	}
	var candidates []*Rights
	for _, kind := range []SubjectKind{Group, Role} {
		for _, s := range m.Subjects(kind) {
			if !able.Test(uint(s.ID)) || st.Counts(s.ID) || m.Subject(subject).Kind == Role && (kind == Group || m.chain(s.ID, subject) != nil) {
				continue
			}
			// A role that administers the platform is no way to give less: the grant itself always is one.
			if other, err := m.stand(Standpoint{Subject: s.ID}, st.At); err == nil && !other.held(PlatformID).Has(Manage) {
				candidates = append(candidates, other)
			}
		}
	}
	// Who holds the fewest grants is likely to open the fewest relations.
	sort.SliceStable(candidates, func(i, j int) bool { return candidates[i].grants() < candidates[j].grants() })
	reads := st.reads()
	for _, other := range candidates[:min(len(candidates), mostTried)] {
		fixes = append(fixes, Fix{Give: other.Standpoint.Subject, To: subject, Opens: other.opens(reads)})
	}
	sort.SliceStable(fixes, func(i, j int) bool { return fixes[i].Opens < fixes[j].Opens })
	if len(fixes) == 0 || fixes[0].To != subject || fixes[0].Give != 0 {
		fixes = append(fixes, Fix{Grants: needs, To: subject})
	}
	return fixes
}

// laneNeed is what a session lacks beside p to use it in a query: a lane to run
// on. Only who signs in runs queries.
func (st *Rights) laneNeed(p Privilege) *Need {
	m := st.Model
	if !Set(Select, Insert, Update, Delete).Has(p) || !m.Subject(st.Standpoint.Subject).Acts() || len(st.MayRun()) > 0 {
		return nil
	}
	lane, err := m.FindLane(FirstLane)
	if err != nil {
		lane = m.Lanes()[0]
	}
	return &Need{Usage, lane.ID}
}

// grants counts the grants that a standing is made of.
func (st *Rights) grants() int {
	n := 0
	for _, id := range st.ids {
		n += len(st.Model.Subject(id).grants)
	}
	return n
}

// reads is the set of relations that the session can read.
func (st *Rights) reads() map[ObjectID]bool {
	out := map[ObjectID]bool{}
	st.Walk(PlatformID, func(o *Object, v Verdict) bool {
		if o.Kind.IsRelation() && v.Allowed.Has(Select) {
			out[o.ID] = true
		}
		return true
	})
	return out
}

// opens counts the relations beyond those given that SELECT is held on: giving
// a role that opens more than enough is what makes a fix large.
func (st *Rights) opens(reads map[ObjectID]bool) int {
	n := 0
	st.Model.Relations(PlatformID, func(o *Object) bool {
		if !reads[o.ID] && st.held(o.ID).Has(Select) {
			n++
		}
		return true
	})
	return n
}
