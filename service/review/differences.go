package review

import (
	"maps"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
)

// a comparison is of what one subject can do before and after a change.
type comparison struct {
	subject       access.SubjectID
	before, after *platform.State
	was, is       *identity.Viewer // nil: not there, or disabled
	gains, loses  []difference
}

// a difference is one right, on one object, in words.
type difference struct {
	what, on, within, how string
	relation              access.ObjectID // zero: it is about none
}

// onRelations are the privileges that effects are told of, relation by relation.
var onRelations = access.Set(
	access.Select,
	access.Insert,
	access.Update,
	access.Delete,
	access.References,
	access.Describe,
	access.Reveal,
	access.Manage,
)

// onViews are those of them that come to something on a view.
var onViews = access.Set(access.Select, access.Describe, access.Manage)

func (c *comparison) relation(o *access.Object) {
	var had, has access.Privileges
	if c.was != nil && c.was.Model.HasObject(o.ID) {
		had = c.was.Resolve(o.ID).Allowed & onRelations
	}
	if c.is != nil {
		has = c.is.Resolve(o.ID).Allowed & onRelations
	}
	if o.Kind == access.View {
		had, has = had&onViews, has&onViews
	}
	m := c.after.Model
	d := difference{on: m.Path(o.ID), within: m.Path(o.Parent), relation: o.ID}
	if gained := has &^ had; gained != 0 {
		gain := d
		gain.what = gained.String()
		if gained.Has(access.Select) {
			if l := leftBy(c.is, o); l.rows != full || l.columns != full {
				gain.how = "(" + l.says + ")"
			}
		}
		c.gains = append(c.gains, gain)
	}
	if lost := had &^ has; lost != 0 {
		loss := d
		loss.what = lost.String()
		c.loses = append(c.loses, loss)
	}
	if (had & has).Has(access.Select) {
		c.governed(o, d)
	}
}

// governed compares what policies and column grants leave of a relation that is
// read before and after. What gets stricter is a loss, whatever else there is.
func (c *comparison) governed(o *access.Object, d difference) {
	was, is := c.was.State.Policies.Govern(c.was.Rights, o.ID), c.is.State.Policies.Govern(c.is.Rights, o.ID)
	tell := func(list *[]difference, parts []string) {
		if len(parts) > 0 {
			d.how = strings.Join(parts, ", ")
			*list = append(*list, d)
		}
	}
	var loses, gains []string
	fewer, more := rowsDiffer(&was.Rules, &is.Rules)
	if fewer {
		loses = append(loses, say.Leaves.With(rowsSay(c.was, was), rowsSay(c.is, is)))
	}
	if more && !fewer {
		gains = append(gains, rowsSay(c.is, is))
	}
	if mayWrite(c.was, o) && mayWrite(c.is, o) {
		fewer, more := rowsDiffer(&was.Write, &is.Write)
		if now := rulesSay(c.is, &is.Write); fewer {
			loses = append(loses, say.Leaves.With(say.ToWrite.With(rulesSay(c.was, &was.Write)), now))
		} else if more {
			gains = append(gains, say.ToWrite.With(now))
		}
	}
	vWas, vIs := c.was.Resolve(o.ID), c.is.Resolve(o.ID)
	for _, id := range o.Children {
		name := c.is.Model.Object(id).Name
		was, is := was.Columns[id], is.Columns[id]
		before, after := was.Treatment, is.Treatment
		switch read, reads := vWas.Covers(access.Select, id), vIs.Covers(access.Select, id); {
		case read && !reads:
			loses = append(loses, say.TheColumn.With(name))
		case reads && !read:
			gains = append(gains, say.TheColumn.With(name))
		case !read || before == after && was.Partly() == is.Partly():
		case before == after && is.Partly():
			gains = append(gains, name+" "+TreatmentSays(is))
		case before == after:
			loses = append(loses, say.Leaves.With(name+" "+TreatmentSays(was), after.Says()))
		case after.Kind > before.Kind:
			had := name
			if before.Kind != policy.Clear {
				had += " " + TreatmentSays(was)
			}
			loses = append(loses, say.Leaves.With(had, TreatmentSays(is)))
		case after.Kind < before.Kind:
			gains = append(gains, name+" "+inClear(is))
		default: // of one kind: which of the two hides more cannot be told
			loses = append(loses, say.Leaves.With(name+" "+before.Says(), TreatmentSays(is)))
		}
	}
	tell(&c.loses, loses)
	tell(&c.gains, gains)
}

func inClear(d policy.Decision) string {
	if d.Treatment.Kind == policy.Clear {
		return say.InClear.With()
	}
	return TreatmentSays(d)
}

// mayWrite reports whether rows of a table can be written from the standpoint.
func mayWrite(p *identity.Viewer, o *access.Object) bool {
	return p.Resolve(o.ID).Allowed.Any(access.Set(access.Insert, access.Update, access.Delete))
}

// rowsDiffer says which way the row policies that apply have changed: a limit
// more or an allowance less shows fewer rows, the reverse more.
func rowsDiffer(was, is *policy.Rules) (fewer, more bool) {
	open := func(r *policy.Rules) bool { return !r.Closed && len(r.Allow) == 0 }
	lacks := func(list []*policy.RowPolicy, p *policy.RowPolicy) bool {
		return !slices.ContainsFunc(list, func(x *policy.RowPolicy) bool { return x.Name == p.Name })
	}
	switch {
	case open(was) && !open(is):
		fewer = true
	case !open(was) && open(is):
		more = true
	default:
		for _, p := range was.Allow {
			fewer = fewer || lacks(is.Allow, p)
		}
		for _, p := range is.Allow {
			more = more || lacks(was.Allow, p)
		}
	}
	for _, p := range is.Limit {
		fewer = fewer || lacks(was.Limit, p)
	}
	for _, p := range was.Limit {
		more = more || lacks(is.Limit, p)
	}
	return fewer, more
}

// lanes compares where queries may run.
func (c *comparison) lanes() {
	open := func(p *identity.Viewer) map[string]bool {
		paths := map[string]bool{}
		if p != nil {
			for _, o := range p.MayRun() {
				paths[p.Model.Path(o.ID)] = true
			}
		}
		return paths
	}
	was, is := open(c.was), open(c.is)
	for _, path := range slices.Sorted(maps.Keys(is)) {
		if !was[path] {
			c.gains = append(c.gains, difference{what: "USAGE", on: path})
		}
	}
	for _, path := range slices.Sorted(maps.Keys(was)) {
		if !is[path] {
			c.loses = append(c.loses, difference{what: "USAGE", on: path})
		}
	}
}

// mostAlike is how many differences of one kind in one schema are told one by
// one.
const mostAlike = 4

// gathered says differences in words; many of one kind in one schema become one.
func gathered(list []difference) []string {
	type kind struct{ what, within, how string }
	count := map[kind]int{}
	for _, d := range list {
		count[kind{d.what, d.within, d.how}]++
	}
	said := []string{}
	for _, d := range list {
		k := kind{d.what, d.within, d.how}
		on := d.on
		if n := count[k]; d.within != "" && n > mostAlike {
			on = say.TablesOf.With(n, d.within)
			count[k] = -1
		} else if n < 0 {
			continue
		}
		switch {
		case d.what == "":
			said = append(said, say.ColonHow.With(on, d.how))
		case d.how == "":
			said = append(said, say.On.With(d.what, on))
		default:
			said = append(said, say.OnHow.With(d.what, on, d.how))
		}
	}
	return said
}

// atOrNobody is a subject's standpoint in a state; nil where it is not there or
// disabled.
func atOrNobody(st *platform.State, id access.SubjectID, now time.Time) *identity.Viewer {
	if !st.Model.HasSubject(id) {
		return nil
	}
	rights, err := st.Rights(access.Standpoint{Subject: id}, now)
	if err != nil {
		return nil
	}
	return &identity.Viewer{Rights: rights, State: st, Reviews: true}
}
