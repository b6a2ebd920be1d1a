package catalog

import (
	"fmt"
	"slices"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A table of the catalog is made by one of these, from what the session may know. Those that none
// makes are empty.
var makers map[string]func(s *Session, add adder)

// An adder takes a row by the names of its columns, in pairs with their values.
type adder func(pairs ...any)

// rows are those of a relation of the catalog. Behind their columns they have its number.
func (s *Session) rows(rel *relation) [][]value {
	if kept, ok := s.kept[rel]; ok {
		return kept
	}
	rows := s.made(rel, makers[rel.schema+"."+rel.name])
	for _, fixed := range laidOut().fixed[rel.name] {
		if rel.schema == "pg_catalog" {
			rows = append(rows, rel.fixed(fixed))
		}
	}
	if s.kept == nil {
		s.kept = map[*relation][][]value{}
	}
	s.kept[rel] = rows
	return rows
}

func (s *Session) made(rel *relation, maker func(s *Session, add adder)) [][]value {
	rows := [][]value{}
	if maker == nil {
		return rows
	}
	places := map[string]int{}
	for i, c := range rel.columns {
		places[c.name] = i
	}
	blank := rel.blank()
	maker(s, func(pairs ...any) {
		row := slices.Clone(blank)
		for i := 0; i < len(pairs); i += 2 {
			if at, ok := places[pairs[i].(string)]; ok {
				row[at] = whole(pairs[i+1])
			}
		}
		rows = append(rows, row)
	})
	return rows
}

// whole takes the numbers that Go has to the one kind that values have.
func whole(v any) value {
	switch v := v.(type) {
	case int:
		return int64(v)
	case int32:
		return int64(v)
	case uint32:
		return int64(v)
	}
	return v
}

// blank is a row of which nothing is said: false and zero in pg_catalog, NULL elsewhere.
func (r *relation) blank() []value {
	row := make([]value, len(r.columns)+1)
	for i, c := range r.columns {
		switch {
		case r.schema != "pg_catalog" || r.view:
		case c.t == tBool:
			row[i] = false
		case integral(c.t):
			row[i] = int64(0)
		case c.t.OID == 700 || c.t.OID == 701:
			row[i] = 0.0
		case c.t.OID == 18:
			row[i] = ""
		}
	}
	row[len(r.columns)] = int64(r.oid)
	return row
}

// fixed is a row that is the same everywhere, of texts.
func (r *relation) fixed(texts map[string]string) []value {
	row := r.blank()
	q := &run{session: &Session{}}
	for i, c := range r.columns {
		if text, ok := texts[c.name]; ok {
			if registered(c.t) {
				row[i] = num(text)
			} else {
				row[i] = q.read(text, c.t, -1)
			}
		}
	}
	return row
}

// quick finds rows by a number where that is less work than to make them all.
func (s *Session) quick(rel *relation, column int, by value) ([][]value, bool) {
	n, ok := by.(int64)
	if !ok || rel.schema != "pg_catalog" {
		return nil, false
	}
	switch rel.name + "." + rel.columns[column].name {
	case "pg_attribute.attrelid":
		return s.made(rel, func(s *Session, add adder) { s.attributesOf(n, add) }), true
	case "pg_class.oid":
		return s.made(rel, func(s *Session, add adder) {
			if r := laidOut().byNumber[n]; r != nil {
				systemClass(r, add)
			} else if o := s.object(n); o != nil && o.Kind.IsRelation() {
				s.class(o, add)
			} else if o := s.keyed(n); o != nil {
				s.keyClass(o, add)
			}
		}), true
	case "pg_description.objoid":
		return s.made(rel, func(s *Session, add adder) {
			if o := s.object(n); o != nil {
				s.descriptions(o, add)
			}
		}), true
	case "pg_index.indrelid":
		return s.made(rel, func(s *Session, add adder) {
			if o := s.object(n); o != nil && o.Kind == access.Table {
				s.index(o, add)
			}
		}), true
	}
	return nil, false
}

// eachRelation calls f for every table and view that the session sees.
func (s *Session) eachRelation(f func(schema, o *access.Object)) {
	for _, schema := range s.schemas() {
		for _, o := range s.relationsOf(schema) {
			f(schema, o)
		}
	}
}

func (s *Session) class(o *access.Object, add adder) {
	kind := "r"
	if o.Kind == access.View {
		kind = "v"
	}
	add("oid", numberOf(o.ID), "relname", o.Name, "relnamespace", numberOf(o.Parent), "relowner", s.ownerOf(o.ID), "relkind", kind,
		"relpersistence", "p", "relnatts", len(s.attributes(o)), "relhasindex", o.Kind == access.Table && len(s.primaryKey(o)) > 0, "relacl", s.accessOf(o),
		"relreplident", "d", "relam", map[string]int{"r": 2, "v": 0}[kind], "relispopulated", true, "reltuples", -1.0,
		"relrowsecurity", s.rowPolicies(o), "relhasrules", kind == "v", "relhastriggers", s.hasForeignKeys(o))
}

// rowPolicies reports whether row policies are on a table, for who may review it.
func (s *Session) rowPolicies(o *access.Object) bool {
	if o.Kind != access.Table || !s.Reviews(o.ID) {
		return false
	}
	g := s.Policies.Govern(s.Rights, o.ID)
	return len(g.All()) > 0 || g.Closed
}

func systemClass(r *relation, add adder) {
	kind, schema := "r", int64(catalogSchema)
	if r.view {
		kind = "v"
	}
	if r.schema == "information_schema" {
		schema = informationSchema
	}
	add("oid", r.oid, "relname", r.name, "relnamespace", schema, "relowner", somebody, "relkind", kind, "relpersistence", "p", "relnatts", len(r.columns),
		"relreplident", "n", "relispopulated", true, "reltuples", -1.0, "relacl", listOf("=r/gneiss"))
}

// attributesOf adds the columns of a relation by its number.
func (s *Session) attributesOf(n int64, add adder) {
	one := func(name string, t *sqltype.Type, declared string, number int64, notNull bool, acl value) {
		elements := 0
		if t.Elem != nil && t.Category == 'A' {
			elements = 1
		}
		of := rowOf(t.OID)
		add("attrelid", n, "attname", name, "atttypid", t.OID, "attstattarget", -1, "attlen", of.length(), "attnum", number, "attndims", elements,
			"attcacheoff", -1, "atttypmod", sqltype.Modifier(declared, t.OID), "attbyval", of.byValue(), "attalign", of.alignment(),
			"attstorage", of.storage(), "attnotnull", notNull, "attislocal", true, "attcollation", of.collation(), "attacl", acl)
	}
	if r := laidOut().byNumber[n]; r != nil {
		for i, c := range r.columns {
			one(c.name, c.t, "", int64(i+1), false, nil)
		}
		return
	}
	if o := s.object(n); o != nil && o.Kind.IsRelation() {
		for _, a := range s.attributes(o) {
			one(a.Name, a.t, a.declared, a.number, a.notNull, s.columnAccess(o, a))
		}
		return
	}
	if o := s.keyed(n); o != nil {
		for i, a := range s.primaryKey(o) {
			one(a.Name, a.t, a.declared, int64(i+1), false, nil)
		}
	}
}

// columnAccess lists who holds what on a column by grants on it itself.
func (s *Session) columnAccess(table *access.Object, a attribute) value {
	out := listOf()
	letters := map[access.Privilege]string{access.Select: "r", access.Insert: "a", access.Update: "w", access.References: "x"}
	owner := fmt.Sprint(s.roleName(s.ownerOf(table.ID)))
	if !s.Reviews(table.ID) {
		v := s.Resolve(table.ID)
		held := ""
		for _, p := range []access.Privilege{access.Insert, access.Select, access.Update, access.References} {
			if !v.Whole.Has(p) && v.Covers(p, a.ID) {
				held += letters[p]
			}
		}
		if held == "" {
			return nil
		}
		return listOf(aclName(s.User) + "=" + held + "/" + owner)
	}
	for _, g := range s.Model.GrantsOn(table.ID) {
		if g.Object != a.ID || g.Revoked || g.Lapsed || letters[g.Privilege] == "" || !s.knows(g.Subject) && g.Subject != access.PublicID {
			continue
		}
		who := ""
		if g.Subject != access.PublicID {
			who = aclName(s.nameOf(s.Model.Subject(g.Subject)))
		}
		out.items = append(out.items, who+"="+letters[g.Privilege]+"/"+owner)
	}
	if len(out.items) == 0 {
		return nil
	}
	return out
}

func (s *Session) descriptions(o *access.Object, add adder) {
	if o.Comment != "" {
		add("objoid", numberOf(o.ID), "classoid", 1259, "objsubid", 0, "description", o.Comment)
	}
	if !o.Kind.IsRelation() {
		return
	}
	for _, a := range s.attributes(o) {
		if a.Comment != "" {
			add("objoid", numberOf(o.ID), "classoid", 1259, "objsubid", a.number, "description", a.Comment)
		}
	}
}

// databases lists the sources that the session sees.
func (s *Session) databases() []*access.Object {
	var out []*access.Object
	for _, id := range s.Model.Object(access.PlatformID).Children {
		if o := s.Model.Object(id); o.Kind == access.Source && !o.Missing && s.Sees(id) {
			out = append(out, o)
		}
	}
	return out
}

func init() {
	makers = map[string]func(s *Session, add adder){
		"pg_catalog.pg_namespace": func(s *Session, add adder) {
			add("oid", catalogSchema, "nspname", "pg_catalog", "nspowner", somebody, "nspacl", listOf("=U/gneiss"))
			add("oid", informationSchema, "nspname", "information_schema", "nspowner", somebody, "nspacl", listOf("=U/gneiss"))
			for _, o := range s.schemas() {
				add("oid", numberOf(o.ID), "nspname", o.Name, "nspowner", s.ownerOf(o.ID), "nspacl", s.accessOf(o))
			}
		},
		"pg_catalog.pg_class": func(s *Session, add adder) {
			for _, r := range laidOut().list {
				systemClass(r, add)
			}
			s.eachRelation(func(_, o *access.Object) {
				s.class(o, add)
				if o.Kind == access.Table && len(s.primaryKey(o)) > 0 {
					s.keyClass(o, add)
				}
			})
		},
		"pg_catalog.pg_attribute": func(s *Session, add adder) {
			for _, r := range laidOut().list {
				s.attributesOf(int64(r.oid), add)
			}
			s.eachRelation(func(_, o *access.Object) {
				s.attributesOf(numberOf(o.ID), add)
				if o.Kind == access.Table && len(s.primaryKey(o)) > 0 {
					s.attributesOf(keyNumber(o.ID), add)
				}
			})
		},
		"pg_catalog.pg_type": func(s *Session, add adder) {
			routines := laidOut().routines
			for _, f := range laidOut().types {
				add("oid", num(f[0]), "typname", f[1], "typnamespace", catalogSchema, "typowner", somebody, "typlen", f.length(), "typbyval", f.byValue(),
					"typtype", f[4], "typcategory", f[5], "typispreferred", f[6] == "t", "typisdefined", true, "typdelim", f[7], "typelem", num(f[8]),
					"typarray", num(f[9]), "typsubscript", routines[f[10]], "typinput", routines[f[11]], "typoutput", routines[f[12]],
					"typreceive", routines[f[13]], "typsend", routines[f[14]], "typmodin", routines[f[15]], "typmodout", routines[f[16]],
					"typalign", f.alignment(), "typstorage", f.storage(), "typtypmod", -1, "typcollation", f.collation())
			}
		},
		"pg_catalog.pg_database": func(s *Session, add adder) {
			for _, o := range s.databases() {
				add("oid", numberOf(o.ID), "datname", o.Name, "datdba", s.ownerOf(o.ID), "encoding", 6, "datlocprovider", "c", "datistemplate", false,
					"datallowconn", true, "datconnlimit", -1, "dattablespace", 1663, "datcollate", "C", "datctype", "C.UTF-8", "datacl", s.accessOf(o))
			}
		},
		"pg_catalog.pg_tablespace": func(s *Session, add adder) {
			add("oid", 1663, "spcname", "pg_default", "spcowner", somebody)
		},
		"pg_catalog.pg_roles":  func(s *Session, add adder) { s.addRoles(add) },
		"pg_catalog.pg_authid": func(s *Session, add adder) { s.addRoles(add) },
		"pg_catalog.pg_user": func(s *Session, add adder) {
			for _, r := range s.roles() {
				if r.Acts() {
					add("usename", s.nameOf(r), "usesysid", firstSubject+int64(r.ID), "usecreatedb", false, "usesuper", false, "userepl", false,
						"usebypassrls", false, "passwd", "********")
				}
			}
		},
		"pg_catalog.pg_group": func(s *Session, add adder) {
			for _, r := range s.roles() {
				if !r.Acts() {
					add("groname", s.nameOf(r), "grosysid", firstSubject+int64(r.ID), "grolist", listOf())
				}
			}
		},
		"pg_catalog.pg_auth_members": func(s *Session, add adder) {
			for _, r := range s.roles() {
				for _, m := range r.Memberships {
					if s.knows(m.Of) && (m.Until.IsZero() || s.Now.Before(m.Until)) {
						add("roleid", firstSubject+int64(m.Of), "member", firstSubject+int64(r.ID), "grantor", somebody, "admin_option", m.Option)
					}
				}
			}
		},
		"pg_catalog.pg_index": func(s *Session, add adder) {
			s.eachRelation(func(_, o *access.Object) {
				if o.Kind == access.Table {
					s.index(o, add)
				}
			})
		},
		"pg_catalog.pg_constraint": func(s *Session, add adder) {
			s.eachRelation(func(_, o *access.Object) {
				if o.Kind != access.Table || len(s.primaryKey(o)) == 0 {
					return
				}
				list, _ := numbersOf(s.primaryKey(o))
				add("oid", keyNumber(o.ID), "conname", o.Name+"_pkey", "connamespace", numberOf(o.Parent), "contype", "p", "convalidated", true,
					"conrelid", numberOf(o.ID), "conindid", keyNumber(o.ID), "conislocal", true, "connoinherit", true, "conkey", listOf(list.items...),
					"confupdtype", " ", "confdeltype", " ", "confmatchtype", " ")
			})
			for _, k := range s.foreignKeys() {
				from, _ := numbersOf(k.from)
				to, _ := numbersOf(k.to)
				add("oid", k.number, "conname", k.name, "connamespace", numberOf(k.child.Parent), "contype", "f", "convalidated", true, "conrelid", numberOf(k.child.ID),
					"confrelid", numberOf(k.parent.ID), "conindid", keyNumber(k.parent.ID), "conislocal", true, "connoinherit", true, "conkey", listOf(from.items...),
					"confkey", listOf(to.items...), "confupdtype", "a", "confdeltype", "a", "confmatchtype", "s")
			}
		},
		"pg_catalog.pg_proc": func(s *Session, add adder) {
			s.eachRoutine(func(schema, o *access.Object, sig sqltype.Signature) {
				args := &array{}
				for _, a := range sig.Args {
					args.items = append(args.items, typeNumber(a))
				}
				var names value
				if len(sig.Names) > 0 {
					list := listOf()
					for _, n := range sig.Names {
						list.items = append(list.items, n)
					}
					names = list
				}
				add("oid", numberOf(o.ID), "proname", sig.Name, "pronamespace", numberOf(schema.ID), "proowner", s.ownerOf(o.ID), "prolang", 12, "procost", 1.0,
					"prorows", map[bool]float64{true: 1000}[sig.Set], "prokind", sig.Kind, "prosecdef", sig.Definer, "proretset", sig.Set,
					"provolatile", sig.Volatility, "proparallel", "u", "pronargs", len(sig.Args), "pronargdefaults", sig.Defaults,
					"prorettype", typeNumber(sig.Result), "proargtypes", args, "proargnames", names, "proacl", s.accessOf(o), "prosrc", "")
			})
		},
		"pg_catalog.pg_description": func(s *Session, add adder) {
			s.eachRelation(func(_, o *access.Object) { s.descriptions(o, add) })
			s.eachRoutine(func(_, o *access.Object, _ sqltype.Signature) {
				if o.Comment != "" {
					add("objoid", numberOf(o.ID), "classoid", 1255, "objsubid", 0, "description", o.Comment)
				}
			})
		},
		"pg_catalog.pg_tables": func(s *Session, add adder) {
			s.eachRelation(func(schema, o *access.Object) {
				if o.Kind == access.Table {
					add("schemaname", schema.Name, "tablename", o.Name, "tableowner", s.roleName(s.ownerOf(o.ID)), "hasindexes", len(s.primaryKey(o)) > 0,
						"hasrules", false, "hastriggers", false, "rowsecurity", s.rowPolicies(o))
				}
			})
		},
		"pg_catalog.pg_views": func(s *Session, add adder) {
			s.eachRelation(func(schema, o *access.Object) {
				if o.Kind == access.View {
					add("schemaname", schema.Name, "viewname", o.Name, "viewowner", s.roleName(s.ownerOf(o.ID)), "definition", s.viewText(numberOf(o.ID)))
				}
			})
		},
		"pg_catalog.pg_indexes": func(s *Session, add adder) {
			s.eachRelation(func(schema, o *access.Object) {
				if o.Kind == access.Table && len(s.primaryKey(o)) > 0 {
					add("schemaname", schema.Name, "tablename", o.Name, "indexname", o.Name+"_pkey", "indexdef", s.indexText([]value{keyNumber(o.ID)}))
				}
			})
		},
		"pg_catalog.pg_settings": func(s *Session, add adder) {
			for _, one := range s.Settings() {
				add("name", one[0], "setting", one[1], "short_desc", one[2], "category", "Session", "context", "user", "vartype", "string", "source", "session",
					"boot_val", one[1], "reset_val", one[1], "pending_restart", false)
			}
		},
		"pg_catalog.pg_stat_activity": func(s *Session, add adder) {
			for _, a := range s.Activity() {
				add("datid", numberOf(s.Source), "datname", a.Database, "pid", a.PID, "usename", a.User, "application_name", a.Client, "backend_start", a.Since,
					"state_change", a.Changed, "state", map[string]string{"running": "active", "failed transaction": "idle in transaction (aborted)"}[a.State],
					"query", a.Text, "backend_type", "client backend")
			}
		},
		"pg_catalog.pg_policy": func(s *Session, add adder) {},
	}
	for name, maker := range informationMakers() {
		makers["information_schema."+name] = maker
	}
}

func typeNumber(name string) value {
	if t := typeOfName(name); t != nil {
		return int64(t.OID)
	}
	return int64(tText.OID)
}

func (s *Session) addRoles(add adder) {
	add("oid", somebody, "rolname", "gneiss", "rolsuper", false, "rolinherit", true, "rolconnlimit", -1, "rolcanlogin", false)
	for _, r := range s.roles() {
		password := value("********")
		add("oid", firstSubject+int64(r.ID), "rolname", s.nameOf(r), "rolsuper", false, "rolinherit", true, "rolcreaterole", false, "rolcreatedb", false,
			"rolcanlogin", r.Acts() && !r.Disabled, "rolreplication", false, "rolconnlimit", -1, "rolpassword", password, "rolbypassrls", false)
	}
}
