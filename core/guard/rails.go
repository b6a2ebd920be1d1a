package guard

import (
	"fmt"
	"slices"
	"time"

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

// mostBreaches bounds what one check tells of.
const mostBreaches = 20

// Broken lists what breaks a guardrail in a state. With touched only what a change can have broken
// is looked at; nil: all.
func (g *Guardrail) Broken(st State, touched []Pair, added []*access.Grant) []Breach {
	c := &check{g: g, State: st, touched: touched, grants: added, whole: touched == nil}
	switch g.Kind {
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

type check struct {
	State
	g       *Guardrail
	touched []Pair
	grants  []*access.Grant
	whole   bool
	about   func(table access.ObjectID) bool // which tables are looked at; nil: all
	found   []Breach
}

func (c *check) full() bool { return len(c.found) >= mostBreaches }

func (c *check) add(b Breach) { c.found = append(c.found, b) }

// manyAsked is about how many people it is quicker to resolve each than to ask who reads a table.
const manyAsked = 32

// columns are the columns that the guardrail is about, by table.
func (c *check) columns() map[access.ObjectID][]access.ObjectID {
	out := map[access.ObjectID][]access.ObjectID{}
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
	var read map[access.SubjectID][]access.ObjectID // those of the tables that somebody reads at all
	if c.whole || len(c.touched) > manyAsked {
		read = c.readers(ids)
	}
	c.each(func(subject access.SubjectID, reaches func(access.ObjectID) bool) {
		if c.full() || c.excepted(subject) {
			return
		}
		var rights *access.Rights
		theirs := ids
		if read != nil {
			theirs = read[subject]
		}
		for _, table := range theirs {
			if !reaches(table) {
				continue
			}
			if rights == nil {
				var err error
				if rights, err = c.Rights(access.Standpoint{Subject: subject}); err != nil {
					return // disabled
				}
			}
			verdict := rights.Resolve(table)
			if !verdict.Allowed.Has(access.Select) {
				continue
			}
			governed := c.Policies.Govern(rights, table)
			if governed.Closed {
				continue
			}
			for _, column := range tables[table] {
				d := governed.Columns[column]
				if verdict.Covers(access.Select, column) && (d.Treatment.Kind == policy.Clear || d.Partly()) {
					how := "in clear"
					if d.Treatment.Kind != policy.Clear {
						how = "in clear for some rows"
					}
					c.add(Breach{Subject: subject, Object: column, Says: fmt.Sprintf("%s sees %s %s", c.Model.Ref(subject), c.Model.Path(column), how)})
					if c.full() {
						return
					}
				}
			}
		}
	})
}

// readers are those of some tables that each subject reads at all.
func (c *check) readers(tables []access.ObjectID) map[access.SubjectID][]access.ObjectID {
	out := map[access.SubjectID][]access.ObjectID{}
	for _, id := range tables {
		set := c.Census.May(access.Select, id)
		for s, ok := set.NextSet(0); ok; s, ok = set.NextSet(s + 1) {
			out[access.SubjectID(s)] = append(out[access.SubjectID(s)], id)
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

// each calls f for every user and service that has to be looked at, and says which objects count.
func (c *check) each(f func(access.SubjectID, func(access.ObjectID) bool)) {
	if c.whole {
		for _, s := range c.Model.Subjects(0) {
			if s.Acts() && !s.Disabled && !s.Removed {
				f(s.ID, func(access.ObjectID) bool { return true })
			}
		}
		return
	}
	at := map[access.SubjectID]places{}
	var order []access.SubjectID
	for _, t := range c.touched {
		if t.Subject == 0 || !c.Model.HasSubject(t.Subject) {
			continue
		}
		c.Model.Actors(t.Subject, c.Now, func(s *access.Subject) bool {
			if at[s.ID] == nil {
				order = append(order, s.ID)
			}
			at[s.ID] = append(at[s.ID], t.Object)
			return true
		})
	}
	for _, id := range order {
		f(id, func(object access.ObjectID) bool { return at[id].concern(c.Model, object) })
	}
}

func (c *check) excepted(id access.SubjectID) bool {
	return slices.ContainsFunc(c.g.Except, func(except access.SubjectID) bool { return c.Census.Holders(except).Test(uint(id)) })
}

// treated finds columns that no policy treats for everyone.
func (c *check) treated() {
	for _, column := range c.Policies.Bearing(c.Model, c.g.Object) {
		if c.Model.Object(column).Missing || c.full() {
			continue
		}
		for _, p := range c.Policies.ColumnPolicies(c.Model, c.Model.Object(column).Parent) {
			if p.Status == policy.Live && len(p.For) == 0 && len(p.Purposes) == 0 && p.When == "" && c.Policies.Treats(p, c.Model, column) {
				column = 0
				break
			}
		}
		if column != 0 {
			c.add(Breach{Object: column, Says: fmt.Sprintf("no live policy treats %s for everyone", c.Model.Path(column))})
		}
	}
}

// apart finds who holds both roles.
func (c *check) apart() {
	both := c.Census.Holders(c.g.Roles[0]).Intersection(c.Census.Holders(c.g.Roles[1]))
	for _, s := range c.Census.Each(both) {
		if s.Acts() && !s.Disabled && !c.full() {
			c.add(Breach{Subject: s.ID, Says: s.Ref() + " holds both"})
		}
	}
}

// granted finds grants of the kind that there may not be.
func (c *check) granted() {
	bad := func(g *access.Grant) {
		if g.Revoked || g.Lapsed || g.Grantor == 0 || g.Owned != 0 || c.full() {
			return
		}
		if c.g.Object != access.PlatformID && !c.Model.Within(c.g.Object, g.Object) {
			return
		}
		s := c.Model.Subject(g.Subject)
		is := false
		switch c.g.Kind {
		case ToPublic:
			is = s.Kind == access.Public
		case ToUsers:
			is = s.Acts()
		case WithoutEnd:
			is = g.Until.IsZero()
		case WholeSource:
			is = c.Model.Object(g.Object).Kind == access.Source && g.Pattern == "" && c.Model.Gives(g)&^access.Set(access.Usage) != 0
		}
		if is {
			c.add(Breach{Subject: g.Subject, Object: g.Object, Grant: g, Says: fmt.Sprintf("%s on %s is granted to %s", c.Model.GrantName(g),
				c.Model.Target(g.Target), s.Ref())})
		}
	}
	if c.whole {
		c.Model.EachGrant(bad)
		return
	}
	for _, g := range c.grants {
		bad(g)
	}
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
		if !o.Missing && c.Model.Owner(o.ID) == 0 {
			c.add(Breach{Object: o.ID, Says: c.Model.Path(o.ID) + " has no owner"})
		}
		return !c.full()
	})
}

// Same reports whether two breaches are of the same: one that was there before is no news.
func (b Breach) Same(o Breach) bool {
	return b.Subject == o.Subject && b.Object == o.Object && (b.Grant == nil) == (o.Grant == nil) && (b.Grant == nil || b.Grant.ID == o.Grant.ID)
}
