package access

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
	"time"
)

// rules is the access model read plainly: lists of what was given, and loops
// over all of them. It shares no code with the product.
type rules struct {
	member map[string][]string // subject → groups and roles, directly
	ended  map[string]bool     // "member of" whose end has passed
	grants []plainGrant
	gone   map[string]bool   // missing objects
	owner  map[string]string // object → subject
}

type plainGrant struct {
	privilege, object, subject string // privilege or bundle
	ended                      bool
}

// bundles are what the built-in ones give.
var bundles = map[string]string{
	"reader": "USAGE SELECT DESCRIBE",
	"writer": "USAGE SELECT DESCRIBE INSERT UPDATE DELETE",
	"keeper": "USAGE SELECT DESCRIBE INSERT UPDATE DELETE CREATE MANAGE REVEAL",
}

// needsDoors are the privileges that are of no use before a shut door.
const needsDoors = "USAGE SELECT INSERT UPDATE DELETE REFERENCES EXECUTE CREATE REVEAL"

// has is all that a subject has: itself, its groups, its roles, PUBLIC; narrowed
// to one role when role is not empty.
func (r *rules) has(subject, role string) []string {
	var out []string
	var add func(s string, inRole bool)
	add = func(s string, inRole bool) {
		if slices.Contains(out, s) {
			return
		}
		out = append(out, s)
		for _, of := range r.member[s] {
			if r.ended[s+" "+of] || role != "" && !inRole && strings.HasPrefix(of, "role:") {
				continue
			}
			add(of, inRole)
		}
	}
	add(subject, false)
	if role != "" {
		add(role, true)
	}
	return append(out, "public")
}

func (r *rules) given(has []string, privilege, object string) bool {
	kind := strings.Count(object, ".")
	for owned, owner := range r.owner {
		if !slices.Contains(has, owner) {
			continue
		}
		if (owned == object || strings.HasPrefix(object, owned+".")) && privilege != "REVEAL" && (privilege != "USAGE" || kind < 2) {
			return true
		}
		if privilege == "USAGE" && strings.HasPrefix(owned, object+".") {
			return true
		}
	}
	for _, g := range r.grants {
		if g.ended || !slices.Contains(has, g.subject) {
			continue
		}
		at := g.object
		if dot := strings.LastIndexByte(at, '.'); strings.Contains(at, "*") {
			// The object at the pattern's level, if its name matches.
			parts, level := strings.Split(object, "."), strings.Count(at, ".")
			if at = "nothing"; len(parts) > level && strings.HasPrefix(object, g.object[:dot+1]) {
				if ok, _ := path.Match(g.object[dot+1:], parts[level]); ok {
					at = strings.Join(parts[:level+1], ".")
				}
			}
		}
		covers := at == "platform" || at == object || strings.HasPrefix(object, at+".")
		gives := strings.Fields(bundles[g.privilege])
		if len(gives) == 0 {
			gives = []string{g.privilege}
		}
		switch {
		case slices.Contains(gives, privilege) && (privilege != "USAGE" && covers || at == object):
			return true
		case g.privilege == "ALL" && covers && privilege != "REVEAL" && (privilege != "USAGE" || kind < 2):
			return true
		}
	}
	return false
}

func (r *rules) allowed(subject, role, privilege, object string) bool {
	has := r.has(subject, role)
	parts := strings.Split(object, ".")
	missing := false
	for i := range parts {
		missing = missing || r.gone[strings.Join(parts[:i+1], ".")]
	}
	behind := slices.Contains(strings.Fields(needsDoors), privilege)
	if !r.given(has, privilege, object) || missing && behind {
		return false
	}
	if strings.HasPrefix(object, "lane:") {
		return true
	}
	if behind {
		for i := range min(len(parts), 2) {
			if !r.given(has, "USAGE", strings.Join(parts[:i+1], ".")) {
				return false
			}
		}
	}
	return true
}

// TestResolveAgainstThePlainRules compares Resolve with the plain reading of
// the rules, over random platforms.
func TestResolveAgainstThePlainRules(t *testing.T) {
	compared, allowed := 0, 0
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 3))
		one := func(list []string) string { return list[r.IntN(len(list))] }
		m, plain := New(), &rules{member: map[string][]string{}, ended: map[string]bool{}, gone: map[string]bool{}, owner: map[string]string{}}
		now := day
		do := func(c Change) bool {
			next, err := m.Apply(now.Add(-time.Hour), c)
			if err == nil {
				m = next
			}
			return err == nil
		}
		var objects []string
		for s := range 2 {
			source := fmt.Sprintf("s%d", s)
			do(AddObject{Path: source, Kind: "source"})
			objects = append(objects, source)
			for c := range 2 {
				schema := fmt.Sprintf("%s.c%d", source, c)
				do(AddObject{Path: schema, Kind: "schema"})
				objects = append(objects, schema)
				for x := range 2 {
					table := fmt.Sprintf("%s.t%d", schema, x)
					do(AddObject{Path: table, Kind: "table"})
					do(AddObject{Path: table + ".x", Kind: "column", Type: "text"})
					objects = append(objects, table, table+".x")
				}
			}
		}
		subjects := []string{}
		for i := range 4 {
			subjects = append(subjects, fmt.Sprintf("user:u%d", i), fmt.Sprintf("group:g%d", i), fmt.Sprintf("role:r%d", i), fmt.Sprintf("role:q%d", i))
		}
		for _, s := range subjects {
			do(AddSubject{Subject: s})
		}
		for range 14 {
			member, of := one(subjects), one(subjects)
			end := []time.Time{{}, {}, {}, now.Add(-time.Minute), now.Add(time.Hour)}[r.IntN(5)]
			if do(Join{Member: member, Of: of, Until: end}) {
				if !slices.Contains(plain.member[member], of) {
					plain.member[member] = append(plain.member[member], of)
				}
				plain.ended[member+" "+of] = !end.IsZero() && end.Before(now)
			}
		}
		for range 22 {
			g := plainGrant{one([]string{"USAGE", "USAGE", "USAGE", "SELECT", "SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "REFERENCES", "EXECUTE", "DESCRIBE", "REVEAL", "MANAGE", "reader", "reader", "writer", "keeper", "ALL"}), one(append(objects, "platform", "s0.*", "s1.c*", "s0.c0.t*", "s0.c1.*1", "s1.c0.*x*", "lane:interactive")), one(append(subjects, "public")), r.IntN(6) == 0}
			end := time.Time{}
			if g.ended {
				end = now.Add(-time.Second)
			}
			if g.privilege == "USAGE" && g.subject == "public" {
				continue
			}
			if do(AddGrant{Privilege: g.privilege, Object: g.object, Subject: g.subject, Until: end}) {
				plain.grants = slices.DeleteFunc(plain.grants, func(x plainGrant) bool {
					return x.privilege == g.privilege && x.object == g.object && x.subject == g.subject
				})
				plain.grants = append(plain.grants, g)
			}
		}
		for range r.IntN(3) { // an owner has ALL, and the doors on the way
			owned, owner := one(objects), one(subjects)
			if do(SetOwner{Object: owned, Owner: owner}) {
				plain.owner[owned] = owner
			}
		}
		if r.IntN(2) == 0 { // half of the platforms have their doors open to all
			for _, door := range []string{"s0", "s0.c0", "s0.c1", "s1"} {
				plain.grants = append(plain.grants, plainGrant{"USAGE", door, "public", false})
				do(AddGrant{Privilege: "USAGE", Object: door, Subject: "public"})
			}
		}
		if r.IntN(2) == 0 {
			gone := one(objects)
			plain.gone[gone] = do(MissObject{gone})
		}
		census := m.TakeCensus(now)
		for _, s := range subjects {
			subject, err := m.FindSubject(s)
			if err != nil {
				t.Fatal(err)
			}
			session, role := Standpoint{Subject: subject.ID}, ""
			if has := plain.has(s, ""); r.IntN(3) == 0 {
				for _, h := range has {
					if strings.HasPrefix(h, "role:") && h != s {
						held, err := m.FindSubject(h)
						if err != nil {
							t.Fatal(err)
						}
						session.Role, role = held.ID, h
					}
				}
			}
			st, err := m.Rights(session, now)
			if err != nil {
				t.Fatalf("seed %d: %s in %q: %v", seed, s, role, err)
			}
			for _, name := range append(objects, "lane:interactive") {
				o, err := m.Lookup(name)
				if err != nil {
					t.Fatal(err)
				}
				v := st.Resolve(o.ID)
				for _, p := range []Privilege{Usage, Select, Insert, Update, Delete, References, Execute, Create, Describe, Reveal, Manage} {
					if !p.AppliesTo(o.Kind) {
						continue
					}
					want := plain.allowed(s, role, p.String(), name)
					if o.Kind == Table && byColumn.Has(p) { // a column's grant opens its table in part
						want = want || plain.allowed(s, role, p.String(), name+".x")
					}
					if got := v.Allowed.Has(p); got != want {
						t.Fatalf("seed %d: %s in %q, %s on %s: Resolve says %v, the rules %v\nmemberships %v\ngrants %+v\nmissing %v\nowners %v", seed, s, role, p, name, got, want, plain.member, plain.grants, plain.gone, plain.owner)
					}
					if missing := st.Missing(p, o.ID); (len(missing) == 0) != v.Allowed.Has(p) && !m.missing(o.ID) {
						t.Fatalf("seed %d: %s on %s for %s is %v, yet missing is %v", seed, p, name, s, want, missing)
					}
					if role == "" && census.May(p, o.ID).Test(uint(subject.ID)) != want {
						t.Fatalf("seed %d: the census has %s on %s for %s as %v, Resolve as %v", seed, p, name, s, !want, want)
					}
					if (len(st.Paths(p, o.ID)) > 0) != v.Held.Has(p) {
						t.Fatalf("seed %d: %s holds %s on %s: %v, by %d paths", seed, s, p, name, v.Held.Has(p), len(st.Paths(p, o.ID)))
					}
					compared++
					if want {
						allowed++
					}
				}
			}
		}
	}
	if allowed < compared/20 {
		t.Errorf("only %d of %d were allowed; the platforms are too closed to prove anything", allowed, compared)
	}
	t.Logf("%d answers compared, %d of them yes", compared, allowed)
}
