package catalog

import (
	"maps"
	"strconv"
	"strings"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A function gives a value. NULL operands give NULL, unless it takes them.
type function struct {
	t           *sqltype.Type
	args        []*sqltype.Type // that operands without a type are taken to
	least, most int
	nulls       bool
	like        func(args []*expr) *sqltype.Type // where the type depends on the operands
	do          func(q *run, a []value, t []*sqltype.Type) value
}

func text1(f func(string) value, t *sqltype.Type) function {
	return function{t: t, args: []*sqltype.Type{tText}, least: 1, most: 1, do: func(q *run, a []value, k []*sqltype.Type) value {
		return f(q.str(a[0], k[0]))
	}}
}

func fixed(t *sqltype.Type, most int, v value) function {
	return function{t: t, most: most, nulls: true, do: func(*run, []value, []*sqltype.Type) value { return v }}
}

// str is an operand as a text.
func (q *run) str(v value, t *sqltype.Type) string {
	if s, ok := v.(string); ok {
		return s
	}
	return q.text(v, t)
}

func num(v value) int64 {
	switch x := v.(type) {
	case int64:
		return x
	case float64:
		return int64(x)
	case string:
		n, err := strconv.ParseInt(strings.TrimSpace(x), 10, 64)
		if err != nil {
			fail("22P02", -1, "invalid input syntax for type integer: %q", x)
		}
		return n
	}
	return 0
}

func first(args []*expr) *sqltype.Type { return args[0].t }

var none = fixed(tText, 9, nil)

// functions are those that questions about the catalog can call.
var functions map[string]function

func init() {
	functions = map[string]function{
		"version":                  fixed(tText, 0, "PostgreSQL 15.0 (as Gneiss speaks it)"),
		"pg_is_in_recovery":        fixed(tBool, 0, false),
		"pg_backend_pid":           {t: tInt4, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.PID }},
		"current_database":         {t: tName, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Database }},
		"current_catalog":          {t: tName, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Database }},
		"current_schema":           {t: tName, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.currentSchema() }},
		"current_user":             {t: tName, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.User }},
		"session_user":             {t: tName, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.User }},
		"now":                      {t: tStamp, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Now }},
		"clock_timestamp":          {t: tStamp, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Now }},
		"transaction_timestamp":    {t: tStamp, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Now }},
		"pg_postmaster_start_time": {t: tStamp, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Now }},
		"pg_conf_load_time":        {t: tStamp, do: func(q *run, _ []value, _ []*sqltype.Type) value { return q.session.Now }},
		"current_schemas": {t: tName.Array, args: []*sqltype.Type{tBool}, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			out := listOf()
			if a[0] == true {
				out.items = append(out.items, "pg_catalog")
			}
			for _, name := range q.session.searched() {
				out.items = append(out.items, name)
			}
			return out
		}},
		"current_setting": {t: tText, args: []*sqltype.Type{tText, tBool}, least: 1, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
			v, ok := q.session.Setting(q.str(a[0], nil))
			if !ok {
				if len(a) > 1 && a[1] == true {
					return nil
				}
				fail("42704", -1, "unrecognized configuration parameter %q", q.str(a[0], nil))
			}
			return v
		}},
		"set_config": {t: tText, args: []*sqltype.Type{tText, tText, tBool}, least: 3, most: 3, nulls: true, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if a[0] == nil {
				fail("22004", -1, "null value not allowed for the name of a parameter")
			}
			text := ""
			if a[1] != nil {
				text = q.str(a[1], nil)
			}
			v, err := q.session.Set(q.str(a[0], nil), text, a[2] == true)
			if err != nil {
				panic(err)
			}
			return v
		}},
		"inet_server_addr":               fixed(tText, 0, nil),
		"inet_server_port":               fixed(tInt4, 0, nil),
		"inet_client_addr":               fixed(tText, 0, nil),
		"inet_client_port":               fixed(tInt4, 0, nil),
		"txid_current":                   fixed(tInt8, 0, int64(1)),
		"txid_current_if_assigned":       fixed(tInt8, 0, nil),
		"pg_current_xact_id":             fixed(tInt8, 0, int64(1)),
		"pg_my_temp_schema":              fixed(tOID, 0, int64(0)),
		"pg_is_other_temp_schema":        fixed(tBool, 1, false),
		"pg_current_xact_id_if_assigned": fixed(tInt8, 0, nil),
		"pg_export_snapshot":             none, "pg_last_wal_receive_lsn": none, "pg_last_xact_replay_timestamp": none, "pg_current_wal_lsn": none,
		"pg_encoding_to_char": {t: tName, least: 1, most: 1, do: func(_ *run, a []value, _ []*sqltype.Type) value {
			if num(a[0]) == 6 {
				return "UTF8"
			}
			return ""
		}},
		"pg_char_to_encoding": {t: tInt4, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if strings.EqualFold(strings.ReplaceAll(q.str(a[0], nil), "-", ""), "utf8") {
				return int64(6)
			}
			return int64(-1)
		}},
		"pg_client_encoding": fixed(tName, 0, "UTF8"), "getdatabaseencoding": fixed(tName, 0, "UTF8"),

		// What objects are called, and whether names without a schema find them.
		"format_type": {t: tText, args: []*sqltype.Type{tOID, tInt4}, least: 2, most: 2, nulls: true, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if a[0] == nil {
				return nil
			}
			modifier := int64(-1)
			if a[1] != nil {
				modifier = num(a[1])
			}
			return formatType(uint32(num(a[0])), modifier)
		}},
		"pg_get_userbyid": {t: tName, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.roleName(num(a[0]))
		}},
		"pg_table_is_visible": {t: tBool, args: []*sqltype.Type{tClass}, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.visible(num(a[0]))
		}},
		"pg_type_is_visible": fixed(tBool, 1, true), "pg_function_is_visible": {t: tBool, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.visible(num(a[0]))
		}},
		"pg_operator_is_visible":       fixed(tBool, 1, true),
		"pg_opclass_is_visible":        fixed(tBool, 1, true),
		"pg_collation_is_visible":      fixed(tBool, 1, true),
		"pg_conversion_is_visible":     fixed(tBool, 1, true),
		"pg_ts_config_is_visible":      fixed(tBool, 1, true),
		"pg_statistics_obj_is_visible": fixed(tBool, 1, true),
		"pg_ts_dict_is_visible":        fixed(tBool, 1, true),
		"pg_ts_parser_is_visible":      fixed(tBool, 1, true),
		"pg_ts_template_is_visible":    fixed(tBool, 1, true),
		"pg_opfamily_is_visible":       fixed(tBool, 1, true),
		"to_regclass": {t: tClass, args: []*sqltype.Type{tText}, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if n, ok := q.session.classNumber(q.str(a[0], nil)); ok {
				return n
			}
			return nil
		}},
		"to_regtype": {t: tRegtype, args: []*sqltype.Type{tText}, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if t := typeOfName(strings.ToLower(strings.TrimPrefix(q.str(a[0], nil), "pg_catalog."))); t != nil {
				return int64(t.OID)
			}
			return nil
		}},
		"to_regnamespace": {t: typeOfNumber(4089), args: []*sqltype.Type{tText}, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			if n, ok := q.session.schemaNumber(q.str(a[0], nil)); ok {
				return n
			}
			return nil
		}},
		"obj_description": {t: tText, least: 1, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.comment(num(a[0]), 0)
		}},
		"col_description": {t: tText, least: 2, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.comment(num(a[0]), num(a[1]))
		}},
		"shobj_description": none,
		"pg_get_expr":       none,
		"pg_get_viewdef": {t: tText, args: []*sqltype.Type{tClass}, least: 1, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.viewText(num(a[0]))
		}},
		"pg_get_constraintdef": {t: tText, least: 1, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.constraintText(num(a[0]))
		}},
		"pg_get_indexdef": {t: tText, least: 1, most: 3, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.indexText(a)
		}},
		"pg_get_function_result": {t: tText, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.routineResult(num(a[0]))
		}},
		"pg_get_function_arguments": {t: tText, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.routineArguments(num(a[0]))
		}},
		"pg_get_function_identity_arguments": {t: tText, least: 1, most: 1, do: func(q *run, a []value, _ []*sqltype.Type) value {
			return q.session.routineArguments(num(a[0]))
		}},
		"pg_get_functiondef":                  none,
		"pg_get_function_sqlbody":             none,
		"pg_get_ruledef":                      none,
		"pg_get_triggerdef":                   none,
		"pg_get_partkeydef":                   none,
		"pg_get_partition_constraintdef":      none,
		"pg_get_statisticsobjdef":             none,
		"pg_get_statisticsobjdef_columns":     none,
		"pg_get_statisticsobjdef_expressions": fixed(tText.Array, 1, nil),
		"pg_get_serial_sequence":              none, "pg_sequence_last_value": fixed(tInt8, 1, nil), "pg_describe_object": none,
		"pg_tablespace_location":               fixed(tText, 1, ""),
		"pg_partition_root":                    fixed(tClass, 1, nil),
		"pg_relation_is_publishable":           fixed(tBool, 1, false),
		"pg_column_is_updatable":               fixed(tBool, 3, true),
		"pg_relation_is_updatable":             fixed(tInt4, 2, int64(28)),
		"pg_index_column_has_property":         fixed(tBool, 3, nil),
		"pg_relation_size":                     fixed(tInt8, 2, nil),
		"pg_total_relation_size":               fixed(tInt8, 1, nil),
		"pg_table_size":                        fixed(tInt8, 1, nil),
		"pg_indexes_size":                      fixed(tInt8, 1, nil),
		"pg_database_size":                     fixed(tInt8, 1, nil),
		"pg_tablespace_size":                   fixed(tInt8, 1, nil),
		"pg_size_pretty":                       none,
		"pg_relation_filenode":                 fixed(tOID, 1, nil),
		"pg_stat_get_numscans":                 fixed(tInt8, 1, nil),
		"pg_get_replica_identity_index":        fixed(tClass, 1, nil),
		"pg_get_userbyname":                    none,
		"pg_get_keyword":                       none,
		"pg_collation_for":                     none,
		"pg_collation_actual_version":          none,
		"pg_database_collation_actual_version": none,
		"pg_advisory_unlock_all":               fixed(tText, 0, ""),

		// Who may do what, as the model resolves it.
		"has_table_privilege":                privilegeOn((*Session).tablePrivilege),
		"has_any_column_privilege":           privilegeOn((*Session).anyColumnPrivilege),
		"has_schema_privilege":               privilegeOn((*Session).schemaPrivilege),
		"has_database_privilege":             privilegeOn((*Session).databasePrivilege),
		"has_function_privilege":             privilegeOn((*Session).functionPrivilege),
		"has_column_privilege":               {t: tBool, least: 3, most: 4, do: columnPrivilege},
		"has_sequence_privilege":             fixed(tBool, 3, false),
		"has_tablespace_privilege":           fixed(tBool, 3, false),
		"has_foreign_data_wrapper_privilege": fixed(tBool, 3, false),
		"has_server_privilege":               fixed(tBool, 3, false),
		"has_language_privilege":             fixed(tBool, 3, false),
		"has_type_privilege":                 fixed(tBool, 3, true),
		"has_parameter_privilege":            fixed(tBool, 3, false),
		"pg_has_role":                        {t: tBool, least: 2, most: 3, do: hasRole},
		"row_security_active":                fixed(tBool, 1, true),
		"acldefault":                         fixed(typeOfNumber(1034), 2, nil),
		"makeaclitem":                        fixed(tText, 4, nil),

		// information_schema's own.
		"_pg_truetypid":          {t: tOID, least: 2, most: 2, nulls: true, do: func(*run, []value, []*sqltype.Type) value { return nil }},
		"_pg_truetypmod":         fixed(tInt4, 2, nil),
		"_pg_char_max_length":    fixed(tInt4, 2, nil),
		"_pg_numeric_precision":  fixed(tInt4, 2, nil),
		"_pg_numeric_scale":      fixed(tInt4, 2, nil),
		"_pg_datetime_precision": fixed(tInt4, 2, nil),
		"_pg_index_position":     fixed(tInt4, 2, nil),
	}
	maps.Copy(functions, plain)
}

// privilegeOn makes one of the functions that ask for a privilege: of the session or of a role, on
// an object by its name or its number.
func privilegeOn(has func(*Session, *access.Rights, value, access.Privilege) bool) function {
	return function{t: tBool, least: 2, most: 3, do: func(q *run, a []value, k []*sqltype.Type) value {
		rights := q.session.Rights
		if len(a) == 3 {
			rights = q.session.rightsOf(a[0])
			a = a[1:]
		}
		return anyPrivilege(q.str(a[1], nil), func(p access.Privilege) bool { return has(q.session, rights, a[0], p) })
	}}
}

// anyPrivilege reads a list of privileges as those functions take it, and reports whether one of
// them is held. Those that the model does not have nobody holds.
func anyPrivilege(list string, has func(access.Privilege) bool) bool {
	for _, name := range strings.Split(list, ",") {
		name = strings.ToUpper(strings.TrimSpace(name))
		plain, option := strings.CutSuffix(name, " WITH GRANT OPTION")
		if option {
			continue // whether it may be passed on is the model's to say: gneiss access
		}
		switch plain {
		case "TRUNCATE", "TRIGGER", "TEMP", "TEMPORARY", "MAINTAIN":
			continue
		case "CONNECT":
			plain = "USAGE"
		}
		p, err := access.ParsePrivilege(plain)
		if err != nil {
			fail("22023", -1, "unrecognized privilege type: %q", plain)
		}
		if has(p) {
			return true
		}
	}
	return false
}

func columnPrivilege(q *run, a []value, _ []*sqltype.Type) value {
	rights := q.session.Rights
	if len(a) == 4 {
		rights = q.session.rightsOf(a[0])
		a = a[1:]
	}
	return anyPrivilege(q.str(a[2], nil), func(p access.Privilege) bool { return q.session.columnPrivilege(rights, a[0], a[1], p) })
}

func hasRole(q *run, a []value, _ []*sqltype.Type) value {
	rights := q.session.Rights
	if len(a) == 3 {
		rights = q.session.rightsOf(a[0])
		a = a[1:]
	}
	return q.session.holdsRole(rights, a[0])
}
