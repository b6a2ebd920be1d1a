package review

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// How many days of use are looked at, how many are kept, and how many items a report lists.
const (
	usualDays   = 90
	mostUseDays = 400
	mostUses    = 1000
	fewTables   = 10
)

// A tally is how one thing was used.
type tally struct {
	queries int64
	last    string
	people  map[access.SubjectID]bool
	tables  map[access.ObjectID]bool
}

func (u *tally) add(n int64, last string, of gateway.Use) {
	u.queries += n
	u.last = max(u.last, last)
	if u.people == nil {
		u.people, u.tables = map[access.SubjectID]bool{}, map[access.ObjectID]bool{}
	}
	u.people[of.Subject] = true
	for _, t := range of.Tables {
		u.tables[t] = true
	}
}

// A used is all that queries needed within some days, by what it was.
type used struct {
	grants      map[access.GrantID]*tally
	memberships map[access.Taken]*tally
	subjects    map[access.SubjectID]*tally // groups and roles
	tables      map[access.ObjectID]*tally
	columns     map[access.ObjectID]bool
	queries     int64
}

// endless is a day behind all.
const endless = "9999-12-31"

// uses gathers what queries needed since a day, of one person or of everybody, and what only wants of it;
// nil: all.
func (s *Service) uses(ctx context.Context, day string, of access.SubjectID, only func(gateway.Use) bool) (*used, error) {
	if err := s.store.Audit().Count(ctx); err != nil {
		return nil, err
	}
	found, err := s.store.Audit().Uses(ctx, day, endless, uint32(of))
	if err != nil {
		return nil, err
	}
	u := &used{grants: map[access.GrantID]*tally{}, memberships: map[access.Taken]*tally{}, subjects: map[access.SubjectID]*tally{},
		tables: map[access.ObjectID]*tally{}, columns: map[access.ObjectID]bool{}}
	for _, f := range found {
		var of gateway.Use
		if err := json.Unmarshal([]byte(f.Needs), &of); err != nil {
			return nil, err
		}
		if only != nil && !only(of) {
			continue
		}
		u.queries += f.N
		for _, id := range of.Grants {
			tallied(u.grants, id).add(f.N, f.Last, of)
		}
		for _, m := range of.Memberships {
			tallied(u.memberships, access.Taken{Member: access.SubjectID(m[0]), Of: access.SubjectID(m[1])}).add(f.N, f.Last, of)
		}
		for _, id := range of.Subjects {
			tallied(u.subjects, id).add(f.N, f.Last, of)
		}
		for _, id := range of.Tables {
			tallied(u.tables, id).add(f.N, f.Last, of)
		}
		for _, id := range of.Columns {
			u.columns[id] = true
		}
	}
	return u, nil
}

func tallied[K comparable](m map[K]*tally, k K) *tally {
	if m[k] == nil {
		m[k] = &tally{}
	}
	return m[k]
}

// since is from when on use is looked at for a number of days, and whether it has been counted for so
// long.
func (s *Service) since(ctx context.Context, days int, now time.Time) (from time.Time, short bool, err error) {
	text, err := s.store.Audit().CountedSince(ctx)
	if err != nil {
		return from, false, err
	}
	counted, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return from, false, err
	}
	from = now.UTC().AddDate(0, 0, -days)
	if counted.After(from) {
		return counted, true, nil
	}
	return from, false, nil
}

// Use says which rights queries needed within a number of days: those of a subject, or with unused
// alone those that nobody used. That is for who reviews the platform and reads the record; anybody may ask
// about themself.
func (s *Service) Use(ctx context.Context, c identity.Caller, ref string, days int, unused bool) (wire.UseReport, error) {
	st := s.platform.Current()
	out := wire.UseReport{Items: []wire.UseItem{}, Tables: []wire.UseTable{}, Days: cmp.Or(days, usualDays)}
	own := ref != "" && ref == st.Model.Ref(c.User)
	if !own && !s.identity.Reviews(st, c) {
		return out, identity.Wants(st, access.Describe, access.PlatformID)
	}
	if !own { // who asked what and when is the record's, though it is counts here
		if err := s.audits(c, "use of rights"); err != nil {
			return out, err
		}
	}
	out, err := s.use(ctx, st, ref, out.Days, unused)
	if err == nil && !s.identity.Reviews(st, c) {
		err = s.ownUse(st, c, &out)
	}
	return out, err
}

// use says which rights queries needed, to nobody in particular.
func (s *Service) use(ctx context.Context, st *platform.State, ref string, days int, unused bool) (wire.UseReport, error) {
	out := wire.UseReport{Items: []wire.UseItem{}, Tables: []wire.UseTable{}, Days: days}
	if out.Days < 1 || out.Days > mostUseDays {
		return out, fault.New(fault.Invalid, "bad_days", "name a number of days from 1 to %d: how often rights were used is kept for so long", mostUseDays)
	}
	var subject *access.Subject
	if ref != "" {
		var err error
		if subject, err = st.Model.FindSubject(ref); err != nil {
			return out, err
		}
		out.Of = subject.Ref()
	}
	now := time.Now()
	var err error
	if out.Since, out.Short, err = s.since(ctx, out.Days, now); err != nil {
		return out, err
	}
	var by access.SubjectID
	if subject != nil && subject.Acts() {
		by = subject.ID
	}
	u, err := s.uses(ctx, out.Since.Format(time.DateOnly), by, nil)
	if err != nil {
		return out, err
	}
	r := &useReport{s: s, st: st, now: now, used: u, out: &out, unused: unused, administering: administering{m: st.Model}}
	if subject == nil {
		out.Queries = u.queries
		r.everything()
	} else if err := r.of(subject); err != nil {
		return out, err
	}
	return out, nil
}

// ownUse leaves of a report what somebody may know of their own use: not who else has a group or role,
// and nothing of what they do not see.
func (s *Service) ownUse(st *platform.State, c identity.Caller, out *wire.UseReport) error {
	own, err := s.identity.Own(st, c)
	if err != nil {
		return err
	}
	sees := func(path string) bool {
		within, _ := access.CutPattern(path)
		o, err := st.Model.Lookup(within)
		return err == nil && own.Sees(o.ID)
	}
	out.Items = slices.DeleteFunc(out.Items, func(i wire.UseItem) bool { return i.Kind == "grant" && !sees(i.Object) })
	out.Tables = slices.DeleteFunc(out.Tables, func(t wire.UseTable) bool { return !sees(t.Table) })
	for i := range out.Items {
		item := &out.Items[i]
		*item = wire.UseItem{Kind: item.Kind, Says: item.Says, Subject: item.Subject, Object: item.Object, Queries: item.Queries, People: min(item.People, 1),
			Last: item.Last, Since: item.Since, New: item.New, Fixes: []wire.Fix{}}
	}
	return nil
}

// A useReport is being put together.
type useReport struct {
	s *Service
	*used
	st     *platform.State
	now    time.Time
	out    *wire.UseReport
	unused bool

	administering administering
}

// everything lists all that people were given.
func (r *useReport) everything() {
	m := r.st.Model
	m.EachGrant(r.grant)
	for _, s := range m.Subjects(0) {
		r.memberships(s)
		if s.Kind == access.Role || s.Kind == access.Group {
			r.named(s)
		}
	}
}

// of lists what a subject has: of who acts, all by which it can do something; of a group or role, its
// own grants, what it is in, and who is in it.
func (r *useReport) of(subject *access.Subject) error {
	m := r.st.Model
	if !subject.Acts() {
		if by := r.subjects[subject.ID]; by != nil {
			r.out.Queries = by.queries
		}
		r.grantsTo(subject.ID)
		r.memberships(subject)
		for _, id := range subject.Members {
			for _, e := range m.Subject(id).Memberships {
				if e.Of == subject.ID {
					r.membership(m.Subject(id), e)
				}
			}
		}
		for id, by := range r.tables {
			for grant, g := range r.grants {
				if g.tables[id] && m.GrantOf(grant) != nil && m.GrantOf(grant).Subject == subject.ID {
					r.table(id, by)
					break
				}
			}
		}
		r.sortTables()
		return nil
	}
	r.out.Queries = r.queries
	rights, err := r.st.Rights(access.Standpoint{Subject: subject.ID}, r.now)
	if err != nil {
		return err
	}
	for _, id := range rights.Subjects() {
		if id != access.PublicID {
			r.grantsTo(id)
		}
		r.memberships(m.Subject(id))
	}
	for id, by := range r.tables {
		r.table(id, by)
	}
	r.sortTables()
	return nil
}

func (r *useReport) grantsTo(id access.SubjectID) {
	for _, g := range r.st.Model.GrantsTo(id) {
		r.grant(g)
	}
}

func (r *useReport) sortTables() {
	slices.SortFunc(r.out.Tables, func(a, b wire.UseTable) int {
		return cmp.Or(cmp.Compare(b.Queries, a.Queries), strings.Compare(a.Table, b.Table))
	})
}

func (r *useReport) table(id access.ObjectID, by *tally) {
	m := r.st.Model
	if m.ObjectOf(id) == nil {
		return
	}
	t := wire.UseTable{Table: m.Path(id), Queries: by.queries, Last: by.last, Columns: []string{}}
	for _, column := range m.Object(id).Children {
		if r.columns[column] {
			t.Columns = append(t.Columns, m.Object(column).Name)
		}
	}
	r.out.Tables = append(r.out.Tables, t)
}

// isNew reports whether what was given at a time is too young to be judged.
func (r *useReport) isNew(at time.Time) bool {
	return !at.IsZero() && at.After(r.now.AddDate(0, 0, -r.out.Days))
}

// item adds what was found of one thing.
func (r *useReport) item(i wire.UseItem, by *tally, since time.Time) {
	if by != nil {
		i.Queries, i.People, i.Last = by.queries, len(by.people), by.last
	}
	if !since.IsZero() {
		i.Since, i.New = &since, r.isNew(since)
	}
	if r.unused && (i.Queries > 0 && i.Note == "" || i.New) {
		return
	}
	if len(r.out.Items) == mostUses {
		r.out.More++
		return
	}
	if i.Fixes == nil {
		i.Fixes = []wire.Fix{}
	}
	r.out.Items = append(r.out.Items, i)
}

// forData are the privileges that statements need, whose use is counted. Of the others, toAdminister are
// those that people are given for their own sake: that no statement needed them says nothing.
var (
	forData      = access.Set(access.Select, access.Insert, access.Update, access.Delete, access.Usage, access.Execute, access.Reveal)
	toAdminister = access.Set(access.Manage, access.Create, access.Audit)
)

// judged reports whether counts of queries tell that nobody needs a grant: it is neither built in nor an
// owner's, and has nothing that is used without a query.
func judged(m *access.Model, g *access.Grant) bool {
	gives := m.Gives(g)
	return g.Grantor != 0 && gives&forData != 0 && gives&toAdminister == 0
}

// An administering finds the groups and roles that give something which is used without a query, themselves
// or by those that they are in: no count tells that a membership in one is not needed.
type administering struct {
	m  *access.Model
	of map[access.SubjectID]bool
}

func (a *administering) has(id access.SubjectID) bool {
	has, known := a.of[id]
	if known {
		return has
	}
	if a.of == nil {
		a.of = map[access.SubjectID]bool{}
	}
	a.of[id] = false // a role that leads back to itself adds nothing
	has = slices.ContainsFunc(a.m.GrantsTo(id), func(g *access.Grant) bool { return a.m.Gives(g)&toAdminister != 0 }) ||
		slices.ContainsFunc(a.m.Subject(id).Memberships, func(e access.Membership) bool { return a.has(e.Of) })
	a.of[id] = has
	return has
}

func (r *useReport) grant(g *access.Grant) {
	m := r.st.Model
	if g.Grantor == 0 || m.Gives(g)&forData == 0 {
		return // built in, an owner's, or for those who administer
	}
	if !judged(m, g) && r.grants[g.ID] == nil {
		r.uncounted(grantUse(m, g), g.At)
		return
	}
	if r.unused && r.grants[g.ID] == nil && len(r.out.Items) == mostUses {
		if !r.isNew(g.At) {
			r.out.More++
		}
		return // there may be a million of them
	}
	by := r.grants[g.ID]
	i := grantUse(m, g)
	if by != nil {
		narrow(r.st, &i, g, by.tables)
	}
	r.item(i, by, g.At)
}

// grantUse is a grant in a report of use, which nobody used as yet.
func grantUse(m *access.Model, g *access.Grant) wire.UseItem {
	what, on, to := m.GrantName(g), m.Target(g.Target), m.Ref(g.Subject)
	return wire.UseItem{Kind: "grant", Says: say.GrantSays.With(what, on, to), Subject: to, Object: on, Fixes: []wire.Fix{revoke(m, g)}}
}

// narrow says of a grant on a container that was used for some tables how much of it was, and what would
// have been enough; it reports whether that is less. Of a grant that was used, nothing else is to be done.
func narrow(st *platform.State, i *wire.UseItem, g *access.Grant, tables map[access.ObjectID]bool) bool {
	m := st.Model
	revoke := i.Fixes
	i.Fixes = nil
	if !m.Gives(g).Has(access.Select) || g.Pattern != "" || m.Object(g.Object).Kind > access.Schema {
		return false
	}
	i.Of = st.CountRelations(g.Object)
	for id := range tables {
		if o := m.ObjectOf(id); o != nil && !o.Missing && m.Within(g.Object, id) {
			i.Tables = append(i.Tables, m.Path(id))
		}
	}
	slices.Sort(i.Tables)
	i.Reads = len(i.Tables)
	i.Tables = i.Tables[:min(len(i.Tables), fewTables)]
	if i.Reads == 0 || i.Reads > fewTables || 2*i.Reads > i.Of || m.Gives(g) != access.Set(access.Select) {
		return false
	}
	i.Note = say.Narrower.With(i.Reads, i.Of, i.Object)
	i.Fixes = append([]wire.Fix{{Says: say.DoNarrow.With(strings.Join(i.Tables, ", ")), Grants: []wire.GrantRequest{{Privileges: []string{"SELECT"},
		Objects: i.Tables, Subjects: []string{i.Subject}}}}}, revoke...)
	return true
}

func (r *useReport) memberships(s *access.Subject) {
	for _, e := range s.Memberships {
		r.membership(s, e)
	}
}

func (r *useReport) membership(s *access.Subject, e access.Membership) {
	i := membershipUse(r.st.Model, s, e)
	by := r.used.memberships[access.Taken{Member: s.ID, Of: e.Of}]
	if by == nil && r.administering.has(e.Of) {
		r.uncounted(i, e.At)
		return
	}
	if by != nil {
		i.Fixes = nil
	}
	r.item(i, by, e.At)
}

// membershipUse is a membership in a report of use, which nobody used as yet.
func membershipUse(m *access.Model, s *access.Subject, e access.Membership) wire.UseItem {
	ref, of := s.Ref(), m.Ref(e.Of)
	return wire.UseItem{Kind: "membership", Says: say.IsIn.With(ref, of), Subject: ref, Object: of,
		Fixes: []wire.Fix{{Says: say.DoTakeOut.With(ref, of), Take: &wire.Member{Member: ref, Of: of}}}}
}

// uncounted adds what serves to administer and what no query needed: it is not among what nobody used.
func (r *useReport) uncounted(i wire.UseItem, since time.Time) {
	if !r.unused {
		i.Fixes, i.Note = nil, say.UseNotCounted.With()
		r.item(i, nil, since)
	}
}

func (r *useReport) named(s *access.Subject) {
	if r.administering.has(s.ID) && r.subjects[s.ID] == nil {
		r.uncounted(wire.UseItem{Kind: s.Kind.String(), Says: s.Ref(), Subject: s.Ref()}, time.Time{})
		return
	}
	r.item(wire.UseItem{Kind: s.Kind.String(), Says: s.Ref(), Subject: s.Ref()}, r.subjects[s.ID], time.Time{})
}
