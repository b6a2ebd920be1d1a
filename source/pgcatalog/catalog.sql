-- What a PostgreSQL server says of its own types, functions, operators and casts,
-- as one line each. What a query may never call is listed with its class and without
-- a meaning; what is not listed is unknown.
WITH
allowed_type AS (
  SELECT t.oid, t.typname, t.typtype, t.typcategory, t.typispreferred, t.typelem, t.typarray, t.typsubscript::text AS subscript
  FROM pg_type t
  WHERE t.typnamespace = 'pg_catalog'::regnamespace
    AND (t.typrelid = 0)
    AND t.typtype IN ('b', 'r', 'm', 'p')
    AND t.typname !~ '^_?(reg(?!config|dictionary)|pg_|xid|cid$|tid$|aclitem|refcursor|txid|xml|gtsvector|int2vector|oidvector|cstring|internal|trigger|event_trigger|language_handler|fdw_handler|index_am_handler|table_am_handler|tsm_handler|void$|oid$|money$)'
),
routine AS (
  SELECT p.oid, p.proname, p.prokind, p.provolatile, p.proisstrict, p.proleakproof, p.proretset, p.provariadic, p.pronargdefaults,
    p.proargtypes::oid[] AS args, p.prorettype, a.aggkind, coalesce(a.aggnumdirectargs, 0) AS direct, p.proargmodes, p.proargnames, p.proallargtypes, p.pronargs,
    CASE
      WHEN p.prokind = 'p' THEN 'it is a procedure'
      WHEN p.proname ~ '(_to_xml|_to_xmlschema|_to_xml_and_xmlschema)$' OR p.proname IN ('ts_stat', 'ts_rewrite') AND p.provolatile = 'v' OR p.proname = 'ts_rewrite' AND p.pronargs = 2
        THEN 'it runs a text as SQL'
      WHEN p.proname ~ '^(pg_read|pg_ls_|pg_stat_file|pg_file|pg_current_logfile)' THEN 'it reads files of the server'
      WHEN p.proname ~ '^(lo_|lo$|loread|lowrite)' OR p.proname ~ '^be_lo' THEN 'it reads or writes large objects'
      WHEN p.proname ~ '(nextval|setval|currval|lastval)$' THEN 'it reads or moves a sequence'
      WHEN p.proname ~ 'pg_sleep' THEN 'it sleeps'
      WHEN p.proname ~ 'advisory' THEN 'it locks'
      WHEN p.proname ~ '(notify|listening)' THEN 'it sends or receives notifications'
      WHEN p.proname ~ '^(current_setting|set_config|current_schema|current_schemas|current_database|current_query|current_user|session_user|getpgusername|inet_(client|server)_|version$|setseed|row_security_active|getdatabaseencoding|icu_|txid_|unicode_version)'
        THEN 'it tells of or changes the session on the database'
      WHEN p.proname ~ '^(pg_|has_|xml_|binary_upgrade|obj_description|col_description|shobj_description|format_type|to_reg|amvalidate|satisfies_hash_partition|system$|bernoulli$|currtid|mxid_age|ts_(debug|parse|token_type|lexize)|get_mcxt)'
        OR p.proname ~ '^(database|schema|table|query|cursor)_to'
        THEN 'it tells of the database''s own catalog or of the server'
      WHEN p.provolatile = 'v' AND p.proname NOT IN ('random', 'gen_random_uuid', 'clock_timestamp') THEN 'it does something on the server or gives another answer each time'
      WHEN p.prorettype NOT IN (SELECT oid FROM allowed_type) OR EXISTS (SELECT FROM unnest(p.proargtypes::oid[]) x WHERE x NOT IN (SELECT oid FROM allowed_type))
        THEN 'it takes or gives a type of the server''s own inside'
    END AS never
  FROM pg_proc p LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid
  WHERE p.pronamespace = 'pg_catalog'::regnamespace
),
lines AS (
  SELECT 1 AS part, t.typname AS name, t.oid::bigint AS oid, concat_ws(E'\t', 'type', t.oid, t.typname,
      replace(format_type(t.oid, NULL), ' without time zone', ''), t.typtype, t.typcategory,
      CASE WHEN t.typispreferred THEN 'preferred' ELSE '-' END,
      CASE WHEN t.subscript = 'array_subscript_handler' THEN t.typelem ELSE 0 END,
      CASE WHEN t.typarray IN (SELECT oid FROM allowed_type) THEN t.typarray ELSE 0 END,
      coalesce((SELECT r.rngsubtype FROM pg_range r WHERE r.rngtypid = t.oid OR r.rngmultitypid = t.oid), 0),
      coalesce((SELECT CASE WHEN r.rngtypid = t.oid THEN r.rngmultitypid ELSE r.rngtypid END FROM pg_range r WHERE r.rngtypid = t.oid OR r.rngmultitypid = t.oid), 0)) AS line
  FROM allowed_type t
  UNION ALL
  SELECT 2, r.proname, r.oid::bigint, concat_ws(E'\t', 'routine', r.oid, r.proname, r.prokind, r.provolatile,
      CASE WHEN r.proisstrict THEN 'strict' ELSE '-' END, CASE WHEN r.proleakproof THEN 'leakproof' ELSE '-' END, CASE WHEN r.proretset THEN 'set' ELSE '-' END,
      coalesce(nullif(array_to_string(r.args, ','), ''), '-'), r.prorettype, r.provariadic, r.pronargdefaults, coalesce(r.aggkind::text, '-'), r.direct,
      coalesce((SELECT nullif(string_agg(coalesce(r.proargnames[i], '') || ':' || r.proallargtypes[i], ',' ORDER BY i), '') FROM generate_subscripts(r.proargmodes, 1) i WHERE r.proargmodes[i] IN ('o', 't', 'b')), '-'),
      coalesce((SELECT nullif(string_agg(r.proargnames[i], ',' ORDER BY i), '') FROM generate_subscripts(r.proargnames, 1) i
        WHERE r.proargmodes IS NULL OR r.proargmodes[i] IN ('i', 'b', 'v')), '-'))
  FROM routine r WHERE r.never IS NULL
  UNION ALL
  SELECT 3, o.oprname, o.oid::bigint, concat_ws(E'\t', 'operator', o.oid, o.oprname, o.oprleft, o.oprright, o.oprresult, p.provolatile,
      CASE WHEN p.proisstrict THEN 'strict' ELSE '-' END, CASE WHEN p.proleakproof THEN 'leakproof' ELSE '-' END)
  FROM pg_operator o JOIN routine p ON p.oid = o.oprcode
  WHERE o.oprnamespace = 'pg_catalog'::regnamespace AND p.never IS NULL
  UNION ALL
  SELECT 4, c.castsource::text, c.casttarget::bigint, concat_ws(E'\t', 'cast', c.castsource, c.casttarget, c.castcontext, c.castmethod,
      CASE WHEN c.castmethod = 'b' OR p.proleakproof THEN 'leakproof' ELSE '-' END, coalesce(p.provolatile, 'i'))
  FROM pg_cast c LEFT JOIN pg_proc p ON p.oid = c.castfunc
  WHERE c.castsource IN (SELECT oid FROM allowed_type) AND c.casttarget IN (SELECT oid FROM allowed_type)
  UNION ALL
  SELECT 5, r.proname, 0, concat_ws(E'\t', 'never', r.proname, min(r.never))
  FROM routine r
  WHERE NOT EXISTS (SELECT FROM routine x WHERE x.proname = r.proname AND x.never IS NULL) AND r.never NOT LIKE 'it takes or gives%'
  GROUP BY r.proname
)
SELECT line FROM lines ORDER BY part, name COLLATE "C", oid, line COLLATE "C"
