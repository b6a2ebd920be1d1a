package guard

import (
	"fmt"
	"slices"
	"time"

	"github.com/bits-and-blooms/bitset"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// A State is what guardrails are checked on.
type State struct {
	Model    *access.Model
	Policies *policy.Set
	Now      time.Time
	// Rights is what a session holds, kept where it was worked out before.
	Rights func(access.Standpoint) (*access.Rights, error)
	Census *access.Census
}

// A Breach is one thing that breaks a guardrail.
type Breach struct {
	Subject access.SubjectID // zero: it is about nobody in particular
	Object  access.ObjectID
	Grant   *access.Grant // nil: it is about none
	Says    string
}

// A Pair is somebody and something between whom a change can make a difference.
type Pair struct {
	Subject access.SubjectID
	Object  access.ObjectID // with all that is below it
}

// MostBreaches is how many breaches one check lists. A list of this length may be incomplete.
const MostBreaches = 20

// Broken lists what breaks a guardrail in a state. With touched only what a change can have broken
// is looked at; nil: all.
func (g *Guardrail) Broken(st State, touched []Pair, added []*access.Grant) []Breach {
	c := &check{g: g, State: st, touched: touched, grants: added, whole: touched == nil}
	return c.all()
}

// News lists the breaches that a change adds. Breaches that were there before do not count toward [MostBreaches], so
// a new one is found however many there are.
func (g *Guardrail) News(before, after State, touched []Pair, added []*access.Grant) []Breach {
	c := &check{g: g, State: after, touched: touched, grants: added, whole: touched == nil, was: &check{g: g, State: before}}
	return c.all()
}

type check struct {
	State
	g       *Guardrail
	touched []Pair
	grants  []*access.Grant
	whole   bool
	about   func(table access.ObjectID) bool // which tables are looked at; nil: all
	was     *check                           // the state before: its breaches are left out; nil: there is none
	found   []Breach

	byTable map[access.ObjectID][]access.ObjectID // the result of columns, once computed
}

func (c *check) all() []Breach {
	switch c.g.Kind {
	case Clear:
		c.clear()
	case Treated:
		c.treated()
	case Apart:
		c.apart()
	case ToPublic, ToUsers, WithoutEnd, WholeSource:
		c.granted()
	case Administrators:
		c.administrators()
	case Owned:
		c.owned()
	}
	return c.found
}

func (c *check) full() bool { return len(c.found) >= MostBreaches }

func (c *check) add(b Breach) {
	if c.was == nil || !c.was.has(b) {
		c.found = append(c.found, b)
	}
}

// has reports whether a breach found in another state is one in this state too.
func (c *check) has(b Breach) bool {
	m := c.Model
	switch {
	case b.Subject != 0 && !m.HasSubject(b.Subject), b.Object != 0 && !m.HasObject(b.Object):
		return false
	}
	switch c.g.Kind {
	case Clear:
		table := m.Object(b.Object).Parent
		rights, err := c.Rights(access.Standpoint{Subject: b.Subject})
		return err == nil && slices.Contains(c.columns()[table], b.Object) && !c.excepted(b.Subject) &&
			len(c.seen(rights, table, []access.ObjectID{b.Object})) > 0
	case Treated:
		return slices.Contains(c.Policies.Bearing(m, c.g.Object), b.Object) && c.untreated(b.Object)
	case Apart:
		return c.both().Test(uint(b.Subject)) && m.Subject(b.Subject).Acts() && !m.Subject(b.Subject).Disabled
	case ToPublic, ToUsers, WithoutEnd, WholeSource:
		g := m.GrantOf(b.Grant.ID)
		return g != nil && g.Subject == b.Subject && g.Object == b.Object && c.bad(g)
	case Administrators:
		return c.Census.CountHolders(b.Subject) > c.g.Most
	case Owned:
		return c.unowned(m.Object(b.Object))
	}
	return false
}

// manyAsked is about how many people it is quicker to resolve each than to ask who reads a table.
const manyAsked = 32

// columns are the columns that the guardrail is about, by table.
func (c *check) columns() map[access.ObjectID][]access.ObjectID {
	if c.byTable != nil {
		return c.byTable
	}
	out := map[access.ObjectID][]access.ObjectID{}
	c.byTable = out
	put := func(id access.ObjectID) {
		if o := c.Model.Object(id); !o.Missing && (c.about == nil || c.about(o.Parent)) {
			out[o.Parent] = append(out[o.Parent], id)
		}
	}
	switch o := c.Model.Object(c.g.Object); o.Kind {
	case access.Column:
		put(o.ID)
	case access.Table:
		for _, id := range o.Children {
			put(id)
		}
	case access.Label:
		for _, id := range c.Policies.Bearing(c.Model, o.ID) {
			put(id)
		}
	}
	return out
}

// clear finds who sees a column in clear and is none of those who may.
func (c *check) clear() {
	tables := c.columns()
	if len(tables) == 0 {
		return
	}
	ids := make([]access.ObjectID, 0, len(tables))
	for id := range tables {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	if !c.whole {
		ids = c.concerned(ids)
	}
	people, reaches := c.people()
	var read [][]access.ObjectID // by subject: which of the tables it can read
	if len(people) > manyAsked {
		read = c.readers(ids)
	}
	for _, subject := range people {
		theirs := ids
		if read != nil {
			theirs = read[subject]
		}
		if c.excepted(subject) {
			continue
		}
		var rights *access.Rights
		for _, table := range theirs {
			if !reaches(subject, table) {
				continue
			}
			if rights == nil {
				var err error
				if rights, err = c.Rights(access.Standpoint{Subject: subject}); err != nil {
					break // disabled
				}
			}
			for _, b := range c.seen(rights, table, tables[table]) {
				if c.add(b); c.full() {
					return
				}
			}
		}
	}
}

// seen lists which of the columns of a table the holder of the rights sees in clear.
func (c *check) seen(rights *access.Rights, table access.ObjectID, columns []access.ObjectID) (all []Breach) {
	verdict := rights.Resolve(table)
	if !verdict.Allowed.Has(access.Select) {
		return nil
	}
	governed := c.Policies.Govern(rights, table)
	if governed.Closed {
		return nil
	}
	subject := rights.Standpoint.Subject
	for _, column := range columns {
		d := governed.Columns[column]
		if verdict.Covers(access.Select, column) && (d.Treatment.Kind == policy.Clear || d.Partly()) {
			how := "in clear"
			if d.Treatment.Kind != policy.Clear {
				how = "in clear for some rows"
			}
			all = append(all, Breach{Subject: subject, Object: column, Says: fmt.Sprintf("%s sees %s %s", c.Model.Ref(subject), c.Model.Path(column), how)})
		}
	}
	return all
}

// readers lists, by subject, which of the tables it can read.
func (c *check) readers(tables []access.ObjectID) [][]access.ObjectID {
	out := make([][]access.ObjectID, c.Census.Subjects())
	for _, id := range tables {
		set := c.Census.May(access.Select, id)
		for s, ok := set.NextSet(0); ok; s, ok = set.NextSet(s + 1) {
			out[s] = append(out[s], id)
		}
	}
	return out
}

// concerned are those of some objects that something touched concerns.
func (c *check) concerned(ids []access.ObjectID) []access.ObjectID {
	var all places
	seen := map[access.ObjectID]bool{}
	for _, t := range c.touched {
		if !seen[t.Object] {
			seen[t.Object] = true
			all = append(all, t.Object)
		}
	}
	return slices.DeleteFunc(ids, func(id access.ObjectID) bool { return !all.concern(c.Model, id) })
}

// people lists the users and services to check. The function tells whether the change can matter to one of them at an
// object.
func (c *check) people() (all []access.SubjectID, reaches func(access.SubjectID, access.ObjectID) bool) {
	if c.whole {
		c.Census.Actors(access.PublicID, func(id access.SubjectID) { all = append(all, id) })
		return all, func(access.SubjectID, access.ObjectID) bool { return true }
	}
	at := make([]places, c.Census.Subjects())
	for _, t := range c.touched {
		if t.Subject == 0 || !c.Model.HasSubject(t.Subject) {
			continue
		}
		one := places{t.Object}
		c.Census.Actors(t.Subject, func(id access.SubjectID) {
			if at[id] == nil {
				all, at[id] = append(all, id), one
			} else {
				at[id] = append(at[id][:len(at[id]):len(at[id])], t.Object)
			}
		})
	}
	return all, func(subject access.SubjectID, object access.ObjectID) bool {
		return at[subject].concern(c.Model, object)
	}
}

func (c *check) excepted(id access.SubjectID) bool {
	return slices.ContainsFunc(c.g.Except, func(except access.SubjectID) bool { return c.Census.Holders(except).Test(uint(id)) })
}

// treated finds columns that no policy treats for everyone.
func (c *check) treated() {
	for _, column := range c.Policies.Bearing(c.Model, c.g.Object) {
		if !c.full() && c.untreated(column) {
			c.add(Breach{Object: column, Says: fmt.Sprintf("no live policy treats %s for everyone", c.Model.Path(column))})
		}
	}
}

// untreated reports whether a column exists and no live policy treats it for everyone.
func (c *check) untreated(column access.ObjectID) bool {
	o := c.Model.Object(column)
	return !o.Missing && !slices.ContainsFunc(c.Policies.ColumnPolicies(c.Model, o.Parent), func(p *policy.ColumnPolicy) bool {
		return p.Status == policy.Live && len(p.For) == 0 && len(p.Purposes) == 0 && p.When == "" && c.Policies.Treats(p, c.Model, column)
	})
}

// apart finds who holds both roles.
func (c *check) apart() {
	for _, s := range c.Census.Each(c.both()) {
		if s.Acts() && !s.Disabled && !c.full() {
			c.add(Breach{Subject: s.ID, Says: s.Ref() + " holds both"})
		}
	}
}

// both is the set of subjects that hold both roles.
func (c *check) both() *bitset.BitSet {
	return c.Census.Holders(c.g.Roles[0]).Intersection(c.Census.Holders(c.g.Roles[1]))
}

// granted finds the grants that the guardrail forbids.
func (c *check) granted() {
	look := func(g *access.Grant) {
		if !c.full() && c.bad(g) {
			c.add(Breach{Subject: g.Subject, Object: g.Object, Grant: g, Says: fmt.Sprintf("%s on %s is granted to %s", c.Model.GrantName(g),
				c.Model.Target(g.Target), c.Model.Ref(g.Subject))})
		}
	}
	if c.whole {
		c.Model.EachGrant(look)
		return
	}
	for _, g := range c.grants {
		look(g)
	}
}

// bad reports whether the guardrail forbids a grant.
func (c *check) bad(g *access.Grant) bool {
	if g.Revoked || g.Lapsed || g.Grantor == 0 || g.Owned != 0 || c.g.Object != access.PlatformID && !c.Model.Within(c.g.Object, g.Object) {
		return false
	}
	switch s := c.Model.Subject(g.Subject); c.g.Kind {
	case ToPublic:
		return s.Kind == access.Public
	case ToUsers:
		return s.Acts()
	case WithoutEnd:
		return g.Until.IsZero()
	case WholeSource:
		return c.Model.Object(g.Object).Kind == access.Source && g.Pattern == "" && c.Model.Gives(g)&^access.Set(access.Usage) != 0
	}
	return false
}

func (c *check) administrators() {
	admin, err := c.Model.FindSubject(access.Administrator)
	if err != nil {
		return
	}
	if n := c.Census.CountHolders(admin.ID); n > c.g.Most {
		c.add(Breach{Subject: admin.ID, Says: fmt.Sprintf("there are %d administrators", n)})
	}
}

func (c *check) owned() {
	c.Model.Relations(c.g.Object, func(o *access.Object) bool {
		if c.unowned(o) {
			c.add(Breach{Object: o.ID, Says: c.Model.Path(o.ID) + " has no owner"})
		}
		return !c.full()
	})
}

// unowned reports whether an object exists and has no owner.
func (c *check) unowned(o *access.Object) bool { return !o.Missing && c.Model.Owner(o.ID) == 0 }
