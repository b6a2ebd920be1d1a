package catalog

import (
	"slices"
	"strings"

	"gneiss/core/sqltype"
)

// A setFunction gives a set of rows.
type setFunction struct {
	columns func(c *compiler, args []*expr) []column
	each    func(q *run, a []value, f func([]value) bool)
}

func gives(columns ...column) func(*compiler, []*expr) []column {
	for i := range columns {
		columns[i].at = i
	}
	return func(*compiler, []*expr) []column { return slices.Clone(columns) }
}

func nothing(*run, []value, func([]value) bool) {}

// sets are the functions that give sets.
var sets = map[string]setFunction{
	"unnest": {
		func(c *compiler, args []*expr) []column {
			var out []column
			for i, a := range args {
				t := tText
				switch {
				case a.t == nil:
				case a.t.OID == 22:
					t = tInt2
				case a.t.OID == 30:
					t = tOID
				case a.t.Elem != nil:
					t = a.t.Elem
				}
				out = append(out, column{name: "unnest", t: t, at: i})
			}
			return out
		},
		func(q *run, a []value, f func([]value) bool) {
			most := 0
			for _, v := range a {
				if list, ok := v.(*array); ok {
					most = max(most, len(list.items))
				}
			}
			for n := range most {
				row := make([]value, len(a))
				for i, v := range a {
					if list, ok := v.(*array); ok && n < len(list.items) {
						row[i] = list.items[n]
					}
				}
				if !f(row) {
					return
				}
			}
		},
	},
	"generate_series": {
		func(c *compiler, args []*expr) []column {
			t := tInt4
			if len(args) > 0 && args[0].t != nil {
				t = args[0].t
			}
			return []column{{name: "generate_series", t: t}}
		},
		func(q *run, a []value, f func([]value) bool) {
			if len(a) < 2 || len(a) > 3 || a[0] == nil || a[1] == nil {
				return
			}
			by := int64(1)
			if len(a) > 2 {
				by = num(a[2])
			}
			if by == 0 {
				fail("22023", -1, "step size cannot equal zero")
			}
			for n := num(a[0]); by > 0 && n <= num(a[1]) || by < 0 && n >= num(a[1]); n += by {
				if !f([]value{n}) {
					return
				}
			}
		},
	},
	"generate_subscripts": {
		gives(column{name: "generate_subscripts", t: tInt4}),
		func(q *run, a []value, f func([]value) bool) {
			list, ok := a[0].(*array)
			if !ok {
				return
			}
			for i := range list.items {
				if !f([]value{list.low + int64(i)}) {
					return
				}
			}
		},
	},
	"_pg_expandarray": {
		gives(column{name: "x", t: tInt2}, column{name: "n", t: tInt4}),
		func(q *run, a []value, f func([]value) bool) {
			list, ok := a[0].(*array)
			if !ok {
				return
			}
			for i, item := range list.items {
				if !f([]value{item, int64(i + 1)}) {
					return
				}
			}
		},
	},
	"aclexplode": {
		gives(column{name: "grantor", t: tOID}, column{name: "grantee", t: tOID}, column{name: "privilege_type", t: tText}, column{name: "is_grantable", t: tBool}),
		func(q *run, a []value, f func([]value) bool) {
			list, ok := a[0].(*array)
			if !ok {
				return
			}
			for _, item := range list.items {
				for _, one := range q.session.exploded(item.(string)) {
					if !f(one) {
						return
					}
				}
			}
		},
	},
	"regexp_split_to_table": {
		gives(column{name: "regexp_split_to_table", t: tText}),
		func(q *run, a []value, f func([]value) bool) {
			if a[0] == nil || a[1] == nil {
				return
			}
			for _, part := range q.pattern(a[1].(string), false).Split(q.str(a[0], nil), -1) {
				if !f([]value{part}) {
					return
				}
			}
		},
	},
	"pg_options_to_table":    {gives(column{name: "option_name", t: tText}, column{name: "option_value", t: tText}), nothing},
	"pg_partition_ancestors": {gives(column{name: "relid", t: tClass}), nothing},
	"pg_partition_tree": {
		gives(column{name: "relid", t: tClass}, column{name: "parentrelid", t: tClass}, column{name: "isleaf", t: tBool}, column{name: "level", t: tInt4}),
		nothing,
	},
	"pg_get_publication_tables": {gives(column{name: "relid", t: tOID}), nothing},
	"pg_listening_channels":     {gives(column{name: "pg_listening_channels", t: tText}), nothing},
	"pg_available_extensions":   {gives(column{name: "name", t: tName}, column{name: "default_version", t: tText}, column{name: "comment", t: tText}), nothing},
	"pg_show_all_settings":      {gives(column{name: "name", t: tText}, column{name: "setting", t: tText}), nothing},
	"pg_lock_status":            {gives(column{name: "locktype", t: tText}, column{name: "pid", t: tInt4}), nothing},
	"pg_get_keywords": {
		gives(column{name: "word", t: tText}, column{name: "catcode", t: tChar}, column{name: "barelabel", t: tBool}, column{name: "catdesc", t: tText},
			column{name: "baredesc", t: tText}),
		func(q *run, a []value, f func([]value) bool) {
			words := []string{}
			for word := range reserved {
				words = append(words, word)
			}
			slices.Sort(words)
			for _, word := range words {
				if !f([]value{word, "R", true, "reserved", "can be bare label"}) {
					return
				}
			}
		},
	},
}

// formatType is the name of a type with its modifier, as SQL writes it.
func formatType(oid uint32, modifier int64) value {
	if oid == 0 {
		return "-"
	}
	t := typeOfNumber(oid)
	if t == nil {
		return "???"
	}
	return sqltype.WithModifier(t, sqltype.ModifierText(oid, modifier))
}

// privilegeLetters are those of a list of access, as PostgreSQL writes them.
const privilegeLetters = "arwdDxtXUCcT"

var letterNames = map[byte]string{'a': "INSERT", 'r': "SELECT", 'w': "UPDATE", 'd': "DELETE", 'D': "TRUNCATE", 'x': "REFERENCES", 't': "TRIGGER",
	'X': "EXECUTE", 'U': "USAGE", 'C': "CREATE", 'c': "CONNECT", 'T': "TEMPORARY"}

// exploded parts one entry of a list of access.
func (s *Session) exploded(item string) [][]value {
	grantee, rest, _ := strings.Cut(item, "=")
	letters, grantor, _ := strings.Cut(rest, "/")
	var out [][]value
	for i := 0; i < len(letters); i++ {
		name, ok := letterNames[letters[i]]
		if !ok {
			continue
		}
		option := i+1 < len(letters) && letters[i+1] == '*'
		out = append(out, []value{s.roleNumber(unquote(grantor)), s.roleNumber(unquote(grantee)), name, option})
	}
	return out
}

func unquote(name string) string {
	if inner, ok := strings.CutPrefix(name, `"`); ok {
		return strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
	}
	return name
}
