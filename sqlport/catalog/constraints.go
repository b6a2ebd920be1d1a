package catalog

import (
	"fmt"
	"slices"
	"strings"

	"gneiss/core/access"
)

// hasForeignKeys reports whether foreign keys lead from a table, or to it, whose ends are there.
// Clients look for them where a table has triggers.
func (s *Session) hasForeignKeys(o *access.Object) bool {
	return slices.ContainsFunc(s.foreignKeys(), func(k foreignKey) bool { return k.child.ID == o.ID || k.parent.ID == o.ID })
}

func (s *Session) keyClass(table *access.Object, add adder) {
	add("oid", keyNumber(table.ID), "relname", table.Name+"_pkey", "relnamespace", numberOf(table.Parent), "relowner", s.ownerOf(table.ID), "relkind", "i",
		"relpersistence", "p", "relnatts", len(s.primaryKey(table)), "relam", 403, "relreplident", "n", "relispopulated", true, "reltuples", -1.0)
}

func numbersOf(columns []attribute) (list, zeros *array) {
	list, zeros = &array{}, &array{}
	for _, a := range columns {
		list.items, zeros.items = append(list.items, a.number), append(zeros.items, int64(0))
	}
	return list, zeros
}

func (s *Session) index(table *access.Object, add adder) {
	columns := s.primaryKey(table)
	if len(columns) == 0 {
		return
	}
	list, zeros := numbersOf(columns)
	add("indexrelid", keyNumber(table.ID), "indrelid", numberOf(table.ID), "indnatts", len(columns), "indnkeyatts", len(columns), "indisunique", true,
		"indisprimary", true, "indimmediate", true, "indisvalid", true, "indisready", true, "indislive", true, "indkey", list, "indcollation", zeros,
		"indclass", zeros, "indoption", zeros)
}

// A foreignKey is one whose both ends the session sees.
type foreignKey struct {
	number        int64
	child, parent *access.Object
	from, to      []attribute
	name          string
}

func (s *Session) foreignKeys() []foreignKey {
	if s.keys != nil {
		return s.keys
	}
	out := []foreignKey{}
	names := map[string]int{}
	for i, r := range s.Policies.Relationships() {
		if r.Declared || !s.there(r.Child) || !s.there(r.Parent) {
			continue
		}
		k := foreignKey{number: firstForeign + int64(i), child: s.Model.Object(r.Child), parent: s.Model.Object(r.Parent)}
		find := func(table *access.Object, ids []access.ObjectID) (out []attribute) {
			for _, id := range ids {
				for _, a := range s.attributes(table) {
					if a.ID == id {
						out = append(out, a)
					}
				}
			}
			return out
		}
		k.from, k.to = find(k.child, r.From), find(k.parent, r.To)
		if len(k.from) != len(r.From) || len(k.to) != len(r.To) {
			continue
		}
		var parts []string
		for _, a := range k.from {
			parts = append(parts, a.Name)
		}
		base := k.child.Name + "_" + strings.Join(parts, "_") + "_fkey"
		if k.name = base; names[fmt.Sprint(r.Child, base)] > 0 {
			k.name += fmt.Sprint(names[fmt.Sprint(r.Child, base)])
		}
		names[fmt.Sprint(r.Child, base)]++
		out = append(out, k)
	}
	s.keys = out
	return out
}

func columnList(columns []attribute) string {
	var names []string
	for _, a := range columns {
		names = append(names, quoteIdent(a.Name))
	}
	return strings.Join(names, ", ")
}

func (s *Session) constraintText(n int64) value {
	if o := s.keyed(n); o != nil {
		return "PRIMARY KEY (" + columnList(s.primaryKey(o)) + ")"
	}
	for _, k := range s.foreignKeys() {
		if k.number == n {
			return "FOREIGN KEY (" + columnList(k.from) + ") REFERENCES " + s.registeredName(numberOf(k.parent.ID), tClass) + "(" + columnList(k.to) + ")"
		}
	}
	return nil
}

func (s *Session) indexText(a []value) value {
	o := s.keyed(num(a[0]))
	if o == nil {
		return nil
	}
	columns := s.primaryKey(o)
	if len(a) > 1 {
		if n := num(a[1]); n > 0 {
			if int(n) > len(columns) {
				return nil
			}
			return quoteIdent(columns[n-1].Name)
		}
	}
	return "CREATE UNIQUE INDEX " + quoteIdent(o.Name+"_pkey") + " ON " + quoteIdent(s.Model.Object(o.Parent).Name) + "." + quoteIdent(o.Name) +
		" USING btree (" + columnList(columns) + ")"
}
