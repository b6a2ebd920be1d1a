package access

import (
	"fmt"
	"math/bits"
	"slices"
	"strings"
)

// A Privilege is one right, named as ISO/IEC 9075-2 names it where it has it.
// The zero value is no privilege.
type Privilege uint8

const (
	Usage      Privilege = iota + 1 // pass the door of a source, schema or lane
	Select                          // read rows
	Insert                          // add rows
	Update                          // change rows
	Delete                          // remove rows
	References                      // use a column in a declared relationship
	Execute                         // call a stored routine
	Create                          // make views
	Describe                        // read structure, comments, definitions and policies
	Reveal                          // see in clear what a column policy would treat
	Manage                          // grant and revoke, write policies
	Audit                           // read the record of who did what
	All                             // all of the above but REVEAL, at the object and below it
)

var privilegeNames = [...]string{Usage: "USAGE", Select: "SELECT", Insert: "INSERT", Update: "UPDATE", Delete: "DELETE",
	References: "REFERENCES", Execute: "EXECUTE", Create: "CREATE", Describe: "DESCRIBE", Reveal: "REVEAL",
	Manage: "MANAGE", Audit: "AUDIT", All: "ALL"}

func (p Privilege) String() string {
	if p == 0 || int(p) >= len(privilegeNames) {
		return fmt.Sprintf("Privilege(%d)", uint8(p))
	}
	return privilegeNames[p]
}

// PrivilegeNames lists the names of all privileges, in their usual order.
func PrivilegeNames() []string { return append([]string(nil), privilegeNames[1:]...) }

// ParsePrivilege reads a privilege's name, in any case.
func ParsePrivilege(s string) (Privilege, error) {
	for p := Usage; p <= All; p++ {
		if strings.EqualFold(s, privilegeNames[p]) {
			return p, nil
		}
	}
	return 0, &NotFound{Kind: "privilege", Name: s, Known: PrivilegeNames()}
}

// levels says on which kinds of object each privilege can be granted.
var levels = [...][]ObjectKind{
	Usage:      {Source, Schema, Lane},
	Select:     {Platform, Source, Schema, Table, View, Column},
	Insert:     {Platform, Source, Schema, Table, View, Column},
	Update:     {Platform, Source, Schema, Table, View, Column},
	Delete:     {Platform, Source, Schema, Table, View},
	References: {Platform, Source, Schema, Table, View, Column},
	Execute:    {Source, Schema, Routine},
	Create:     {Schema},
	Describe:   {Platform, Source, Schema, Table, View, Column},
	Reveal:     {Platform, Source, Schema, Table, View, Column, Label},
	Manage:     {Platform, Source, Schema, Table, View, Lane},
	Audit:      {Platform, Source, Schema},
	All:        {Platform, Source, Schema, Table, View, Routine, Lane},
}

// AppliesTo reports whether p can be granted on objects of kind k.
func (p Privilege) AppliesTo(k ObjectKind) bool {
	return p > 0 && int(p) < len(levels) && slices.Contains(levels[p], k)
}

// privilegeSays is what each privilege lets its holder do.
var privilegeSays = [...]string{
	Usage:      "enter a source or schema, or run queries on a lane; nothing inside can be used without it, and it covers the one object that it names",
	Select:     "read rows",
	Insert:     "add rows",
	Update:     "change rows",
	Delete:     "remove rows",
	References: "use a column in a declared relationship",
	Execute:    "call a stored routine",
	Create:     "create views in a schema",
	Describe:   "see structure, grants and policies, even without USAGE",
	Reveal:     "see in clear what a column policy would treat",
	Manage:     "grant and revoke, and write policies, there and below; on the platform also manage subjects, and view as others",
	Audit:      "read the record of who did what",
	All:        "all of these but REVEAL, there and below",
}

// Says is what p lets its holder do, in words.
func (p Privilege) Says() string { return privilegeSays[p] }

// Levels lists the kinds of object that p can be granted on.
func (p Privilege) Levels() []ObjectKind { return slices.Clone(levels[p]) }

// behindDoors are the privileges that are of no use while a door on the way to
// the object is shut.
var behindDoors = Set(Select, Insert, Update, Delete, References, Execute, Create, Reveal)

// Privileges is a set of privileges. The zero value allows nothing.
type Privileges uint16

// Set makes a set of its arguments.
func Set(ps ...Privilege) Privileges {
	var s Privileges
	for _, p := range ps {
		s |= 1 << p
	}
	return s
}

// Has reports whether p is in s.
func (s Privileges) Has(p Privilege) bool { return s&(1<<p) != 0 }

// Any reports whether s and t share a privilege.
func (s Privileges) Any(t Privileges) bool { return s&t != 0 }

// Each lists the members of s in their usual order.
func (s Privileges) Each() []Privilege {
	out := make([]Privilege, 0, bits.OnesCount16(uint16(s)))
	for p := Usage; p <= All; p++ {
		if s.Has(p) {
			out = append(out, p)
		}
	}
	return out
}

func (s Privileges) String() string {
	names := []string{}
	for _, p := range s.Each() {
		names = append(names, p.String())
	}
	return strings.Join(names, ", ")
}

// carried is what a grant of p brings. ALL leaves REVEAL out: nobody is exempt
// from a column policy by rank, so that exemptions can be reviewed by name.
func carried(p Privilege) Privileges {
	if p == All {
		return Set(Usage, Select, Insert, Update, Delete, References, Execute, Create, Describe, Manage, Audit, All)
	}
	return Set(p)
}
