package catalog

import (
	"strings"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

func yes(b bool) string {
	if b {
		return "YES"
	}
	return "NO"
}

// held reports whether the session holds something on a relation, or on one of its columns.
func (s *Session) held(o *access.Object) bool {
	v := s.Resolve(o.ID)
	for _, p := range []access.Privilege{access.Select, access.Insert, access.Update, access.Delete, access.References, access.Manage, access.Describe} {
		if v.Allowed.Has(p) {
			return true
		}
	}
	return false
}

// informationMakers are the makers of information_schema.
func informationMakers() map[string]func(s *Session, add adder) {
	return map[string]func(s *Session, add adder){
		"information_schema_catalog_name": func(s *Session, add adder) { add("catalog_name", s.Database) },
		"schemata": func(s *Session, add adder) {
			for _, name := range []string{"pg_catalog", "information_schema"} {
				add("catalog_name", s.Database, "schema_name", name, "schema_owner", "gneiss")
			}
			for _, o := range s.schemas() {
				add("catalog_name", s.Database, "schema_name", o.Name, "schema_owner", s.roleName(s.ownerOf(o.ID)))
			}
		},
		"tables": func(s *Session, add adder) {
			for _, r := range laidOut().list {
				add("table_catalog", s.Database, "table_schema", r.schema, "table_name", r.name, "table_type", map[bool]string{true: "VIEW", false: "BASE TABLE"}[r.view],
					"is_insertable_into", "NO", "is_typed", "NO")
			}
			s.eachRelation(func(schema, o *access.Object) {
				if s.held(o) {
					add("table_catalog", s.Database, "table_schema", schema.Name, "table_name", o.Name,
						"table_type", map[bool]string{true: "VIEW", false: "BASE TABLE"}[o.Kind == access.View],
						"is_insertable_into", yes(s.Resolve(o.ID).Allowed.Has(access.Insert)), "is_typed", "NO")
				}
			})
		},
		"views": func(s *Session, add adder) {
			s.eachRelation(func(schema, o *access.Object) {
				if o.Kind == access.View && s.held(o) {
					add("table_catalog", s.Database, "table_schema", schema.Name, "table_name", o.Name, "view_definition", s.viewText(numberOf(o.ID)),
						"check_option", "NONE", "is_updatable", "NO", "is_insertable_into", "NO", "is_trigger_updatable", "NO", "is_trigger_deletable", "NO",
						"is_trigger_insertable_into", "NO")
				}
			})
		},
		"columns": func(s *Session, add adder) {
			s.eachRelation(func(schema, o *access.Object) {
				v := s.Resolve(o.ID)
				for _, a := range s.attributes(o) {
					if v.Covers(access.Select, a.ID) || v.Covers(access.Insert, a.ID) || v.Covers(access.Update, a.ID) || v.Covers(access.References, a.ID) {
						s.informationColumn(schema, o, a, add)
					}
				}
			})
		},
		"table_constraints": func(s *Session, add adder) {
			one := func(schema, o *access.Object, name, kind string) {
				add("constraint_catalog", s.Database, "constraint_schema", schema.Name, "constraint_name", name, "table_catalog", s.Database,
					"table_schema", schema.Name, "table_name", o.Name, "constraint_type", kind, "is_deferrable", "NO", "initially_deferred", "NO", "enforced", "YES")
			}
			s.eachRelation(func(schema, o *access.Object) {
				if o.Kind == access.Table && len(s.primaryKey(o)) > 0 && s.held(o) {
					one(schema, o, o.Name+"_pkey", "PRIMARY KEY")
				}
			})
			for _, k := range s.foreignKeys() {
				if s.held(k.child) {
					one(s.Model.Object(k.child.Parent), k.child, k.name, "FOREIGN KEY")
				}
			}
		},
		"key_column_usage": func(s *Session, add adder) {
			one := func(o *access.Object, name string, columns []attribute, foreign bool) {
				schema := s.Model.Object(o.Parent)
				for i, a := range columns {
					var position value
					if foreign {
						position = int64(i + 1)
					}
					add("constraint_catalog", s.Database, "constraint_schema", schema.Name, "constraint_name", name, "table_catalog", s.Database,
						"table_schema", schema.Name, "table_name", o.Name, "column_name", a.Name, "ordinal_position", i+1, "position_in_unique_constraint", position)
				}
			}
			s.eachRelation(func(_, o *access.Object) {
				if o.Kind == access.Table && s.held(o) {
					one(o, o.Name+"_pkey", s.primaryKey(o), false)
				}
			})
			for _, k := range s.foreignKeys() {
				if s.held(k.child) {
					one(k.child, k.name, k.from, true)
				}
			}
		},
		"constraint_column_usage": func(s *Session, add adder) {
			one := func(of *access.Object, name string, o *access.Object, columns []attribute) {
				for _, a := range columns {
					add("table_catalog", s.Database, "table_schema", s.Model.Object(o.Parent).Name, "table_name", o.Name, "column_name", a.Name,
						"constraint_catalog", s.Database, "constraint_schema", s.Model.Object(of.Parent).Name, "constraint_name", name)
				}
			}
			s.eachRelation(func(_, o *access.Object) {
				if o.Kind == access.Table && s.held(o) {
					one(o, o.Name+"_pkey", o, s.primaryKey(o))
				}
			})
			for _, k := range s.foreignKeys() {
				if s.held(k.child) {
					one(k.child, k.name, k.parent, k.to)
				}
			}
		},
		"referential_constraints": func(s *Session, add adder) {
			for _, k := range s.foreignKeys() {
				if s.held(k.child) {
					add("constraint_catalog", s.Database, "constraint_schema", s.Model.Object(k.child.Parent).Name, "constraint_name", k.name,
						"unique_constraint_catalog", s.Database, "unique_constraint_schema", s.Model.Object(k.parent.Parent).Name,
						"unique_constraint_name", k.parent.Name+"_pkey", "match_option", "NONE", "update_rule", "NO ACTION", "delete_rule", "NO ACTION")
				}
			}
		},
		"table_privileges":   tablePrivileges,
		"role_table_grants":  tablePrivileges,
		"column_privileges":  columnPrivileges,
		"role_column_grants": columnPrivileges,
		"enabled_roles": func(s *Session, add adder) {
			for _, id := range s.Subjects() {
				add("role_name", s.nameOf(s.Model.Subject(id)))
			}
		},
		"applicable_roles": func(s *Session, add adder) {
			for _, id := range s.Subjects() {
				for _, m := range s.Model.Subject(id).Memberships {
					if s.Holds(m.Of) {
						add("grantee", s.nameOf(s.Model.Subject(id)), "role_name", s.nameOf(s.Model.Subject(m.Of)), "is_grantable", yes(m.Option))
					}
				}
			}
		},
		"character_sets": func(s *Session, add adder) {
			add("character_set_name", "UTF8", "character_repertoire", "UCS", "form_of_use", "UTF8", "default_collate_catalog", s.Database,
				"default_collate_schema", "pg_catalog", "default_collate_name", "C")
		},
		"routines": func(s *Session, add adder) {
			s.eachRoutine(func(schema, o *access.Object, sig sqltype.Signature) {
				add("specific_catalog", s.Database, "specific_schema", schema.Name, "specific_name", sig.Name+"_"+s.specific(o), "routine_catalog", s.Database,
					"routine_schema", schema.Name, "routine_name", sig.Name, "routine_type", "FUNCTION", "data_type", sig.Result, "type_udt_catalog", s.Database,
					"type_udt_schema", "pg_catalog", "external_language", "SQL", "is_deterministic", yes(sig.Volatility == "i"), "security_type",
					map[bool]string{true: "DEFINER", false: "INVOKER"}[sig.Definer])
			})
		},
		"parameters": func(s *Session, add adder) {
			s.eachRoutine(func(schema, o *access.Object, sig sqltype.Signature) {
				for i, t := range sig.Args {
					var name value
					if i < len(sig.Names) && sig.Names[i] != "" {
						name = sig.Names[i]
					}
					add("specific_catalog", s.Database, "specific_schema", schema.Name, "specific_name", sig.Name+"_"+s.specific(o), "ordinal_position", i+1,
						"parameter_mode", "IN", "is_result", "NO", "as_locator", "NO", "parameter_name", name, "data_type", t)
				}
			})
		},
	}
}

func (s *Session) specific(o *access.Object) string { return s.registeredName(numberOf(o.ID), tOID) }

func (s *Session) informationColumn(schema, o *access.Object, a attribute, add adder) {
	t, declared := a.t, a.declared
	kind, udt := t.Name, t.Internal
	if t.Elem != nil && t.Category == 'A' {
		kind = "ARRAY"
	}
	var length, octets, precision, radix, scale, fraction value
	modifier := int64(sqltype.Modifier(declared, t.OID))
	switch t.OID {
	case 1042, 1043:
		octets = int64(1073741824)
		if modifier > 0 {
			length = modifier - 4
			octets = (modifier - 4) * 4
		}
	case 25:
		octets = int64(1073741824)
	case 21, 23, 20:
		precision, radix, scale = map[uint32]int64{21: 16, 23: 32, 20: 64}[t.OID], int64(2), int64(0)
	case 700, 701:
		precision, radix = map[uint32]int64{700: 24, 701: 53}[t.OID], int64(2)
	case 1700:
		radix = int64(10)
		if modifier > 0 {
			precision, scale = (modifier-4)>>16, (modifier-4)&0x7ff
		}
	case 1082:
		fraction = int64(0)
	case 1083, 1114, 1184, 1266:
		if fraction = int64(6); modifier >= 0 {
			fraction = modifier
		}
	}
	add("table_catalog", s.Database, "table_schema", schema.Name, "table_name", o.Name, "column_name", a.Name, "ordinal_position", a.number,
		"is_nullable", yes(!a.notNull), "data_type", strings.ToLower(kind), "character_maximum_length", length, "character_octet_length", octets,
		"numeric_precision", precision, "numeric_precision_radix", radix, "numeric_scale", scale, "datetime_precision", fraction,
		"udt_catalog", s.Database, "udt_schema", "pg_catalog", "udt_name", udt, "dtd_identifier", s.registeredName(a.number, tOID), "is_self_referencing", "NO",
		"is_identity", "NO", "is_generated", "NEVER", "is_updatable", yes(o.Kind == access.Table))
}

func tablePrivileges(s *Session, add adder) {
	s.eachRelation(func(schema, o *access.Object) {
		v := s.Resolve(o.ID)
		for _, p := range []access.Privilege{access.Select, access.Insert, access.Update, access.Delete, access.References} {
			if v.Whole.Has(p) && v.Allowed.Has(p) {
				add("grantor", s.roleName(s.ownerOf(o.ID)), "grantee", s.User, "table_catalog", s.Database, "table_schema", schema.Name, "table_name", o.Name,
					"privilege_type", p.String(), "is_grantable", "NO", "with_hierarchy", yes(p == access.Select))
			}
		}
	})
}

func columnPrivileges(s *Session, add adder) {
	s.eachRelation(func(schema, o *access.Object) {
		v := s.Resolve(o.ID)
		for _, a := range s.attributes(o) {
			for _, p := range []access.Privilege{access.Select, access.Insert, access.Update, access.References} {
				if v.Covers(p, a.ID) {
					add("grantor", s.roleName(s.ownerOf(o.ID)), "grantee", s.User, "table_catalog", s.Database, "table_schema", schema.Name, "table_name", o.Name,
						"column_name", a.Name, "privilege_type", p.String(), "is_grantable", "NO")
				}
			}
		}
	})
}
