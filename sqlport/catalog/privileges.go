package catalog

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// rightsOf works out the rights of a role that one of the functions for privileges names.
func (s *Session) rightsOf(v value) *access.Rights {
	var n value
	if name, ok := v.(string); ok {
		n = s.roleNumber(name)
		if n == nil {
			fail("42704", -1, "role %q does not exist", name)
		}
	} else {
		n = v
	}
	id := access.SubjectID(num(n) - firstSubject)
	if id == s.Standpoint.Subject {
		return s.Rights
	}
	if num(n) == 0 {
		id = access.PublicID
	}
	if !s.Model.HasSubject(id) || !s.knows(id) && id != access.PublicID {
		fail("42704", -1, "role with OID %d does not exist", num(n))
	}
	if !s.ReviewsAll {
		fail("42501", -1, "what others may do is for who reviews them")
	}
	rights, err := s.As(id)
	if err != nil {
		fail("42704", -1, "role %v cannot be looked at", v)
	}
	return rights
}

// target is the object that one of the functions for privileges names.
func (s *Session) target(v value) (id access.ObjectID, system bool) {
	n, _ := v.(int64)
	if name, ok := v.(string); ok {
		var there bool
		if n, there = s.classNumber(name); !there {
			fail("42P01", -1, "relation %q does not exist", name)
		}
	}
	if laidOut().byNumber[n] != nil {
		return 0, true
	}
	if o := s.object(n); o != nil {
		return o.ID, false
	}
	return 0, false
}

func (s *Session) tablePrivilege(r *access.Rights, v value, p access.Privilege) bool {
	id, system := s.target(v)
	if system || id == 0 {
		return system && p == access.Select
	}
	verdict := r.Resolve(id)
	return verdict.Whole.Has(p) && verdict.Allowed.Has(p)
}

func (s *Session) anyColumnPrivilege(r *access.Rights, v value, p access.Privilege) bool {
	id, system := s.target(v)
	if system || id == 0 {
		return system && p == access.Select
	}
	return r.Resolve(id).Allowed.Has(p)
}

func (s *Session) columnPrivilege(r *access.Rights, table, column value, p access.Privilege) bool {
	id, system := s.target(table)
	if system || id == 0 {
		return system && p == access.Select
	}
	for _, a := range s.attributes(s.Model.Object(id)) {
		if name, ok := column.(string); ok && a.Name == name || !ok && a.number == num(column) {
			verdict := r.Resolve(id)
			return verdict.Covers(p, a.ID)
		}
	}
	fail("42703", -1, "column %v of the relation does not exist", column)
	return false
}

func (s *Session) schemaPrivilege(r *access.Rights, v value, p access.Privilege) bool {
	n, _ := v.(int64)
	if name, ok := v.(string); ok {
		var there bool
		if n, there = s.schemaNumber(name); !there {
			fail("3F000", -1, "schema %q does not exist", name)
		}
	}
	if n == catalogSchema || n == informationSchema {
		return p == access.Usage
	}
	o := s.object(n)
	return o != nil && r.Resolve(o.ID).Allowed.Has(p)
}

func (s *Session) databasePrivilege(r *access.Rights, v value, p access.Privilege) bool {
	if name, ok := v.(string); ok && name != s.Database {
		o := s.Model.Child(s.Model.Object(access.PlatformID), name)
		if o == nil || !s.Sees(o.ID) {
			fail("3D000", -1, "database %q does not exist", name)
		}
		return r.Resolve(o.ID).Allowed.Has(p)
	}
	if n, ok := v.(int64); ok && n != numberOf(s.Source) {
		id := access.ObjectID(n - firstObject)
		return s.Model.HasObject(id) && s.Sees(id) && r.Resolve(id).Allowed.Has(p)
	}
	return r.Resolve(s.Source).Allowed.Has(p)
}

func (s *Session) functionPrivilege(r *access.Rights, v value, p access.Privilege) bool {
	n, ok := v.(int64)
	if !ok {
		return true // one of the language's own
	}
	o := s.object(n)
	return o == nil || r.Resolve(o.ID).Allowed.Has(p)
}

func (s *Session) holdsRole(r *access.Rights, v value) bool {
	n := v
	if name, ok := v.(string); ok {
		if n = s.roleNumber(name); n == nil {
			fail("42704", -1, "role %q does not exist", name)
		}
	}
	id := access.SubjectID(num(n) - firstSubject)
	return num(n) > firstSubject && s.Model.HasSubject(id) && (id == r.Standpoint.Subject || r.Holds(id))
}

// access lists who holds what on an object, in PostgreSQL's form: all for who may review it, else
// what the session itself holds.
func (s *Session) accessOf(o *access.Object) value {
	letters := map[access.Privilege]byte{access.Select: 'r', access.Insert: 'a', access.Update: 'w', access.Delete: 'd', access.References: 'x',
		access.Execute: 'X', access.Usage: 'U', access.Create: 'C'}
	out := listOf()
	entry := func(who string, held access.Privileges, option access.Privileges, by value) {
		var b strings.Builder
		for _, letter := range []byte(privilegeLetters) {
			for p, l := range letters {
				if l == letter && held.Has(p) && p.AppliesTo(o.Kind) {
					b.WriteByte(l)
					if option.Has(p) {
						b.WriteByte('*')
					}
				}
			}
		}
		if b.Len() > 0 {
			out.items = append(out.items, who+"="+b.String()+"/"+fmt.Sprint(by))
		}
	}
	owner := s.roleName(s.ownerOf(o.ID))
	if !s.Reviews(o.ID) {
		v := s.Resolve(o.ID)
		entry(aclName(s.User), v.Whole&v.Allowed, 0, owner)
		if len(out.items) == 0 {
			return nil
		}
		return out
	}
	held, options := map[access.SubjectID]access.Privileges{}, map[access.SubjectID]access.Privileges{}
	for _, id := range append([]access.ObjectID{o.ID}, s.Model.Above(o.ID)...) {
		for _, g := range s.Model.GrantsOn(id) {
			if g.Revoked || g.Lapsed || !s.Model.Covers(g.Target, o.ID) {
				continue
			}
			gives := s.Model.Gives(g)
			if id != o.ID {
				gives &^= access.Set(access.Usage, access.Create)
			}
			held[g.Subject] |= gives
			if g.Option {
				options[g.Subject] |= gives
			}
		}
	}
	var ids []access.SubjectID
	for id := range held {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		who := ""
		if id != access.PublicID {
			if !s.knows(id) {
				continue
			}
			who = aclName(s.nameOf(s.Model.Subject(id)))
		}
		entry(who, held[id], options[id], owner)
	}
	if len(out.items) == 0 {
		return nil
	}
	return out
}

func aclName(name string) string {
	if strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") == "" {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}
