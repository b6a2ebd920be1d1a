-- The functions, aggregates and window functions of the database's own that the account may call.
WITH spelled AS NOT MATERIALIZED (
  SELECT t.oid, replace(format_type(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END, NULL), ' without time zone', '') AS name,
    coalesce(element.typtype, t.typtype)::text AS kind
  FROM pg_type t LEFT JOIN pg_type element ON element.oid = t.typelem AND t.typcategory = 'A')
SELECT n.nspname, p.proname, p.prokind::text,
  array(SELECT t.name FROM unnest(p.proargtypes::oid[]) WITH ORDINALITY AS x (oid, i) JOIN spelled t ON t.oid = x.oid ORDER BY x.i),
  array(SELECT t.kind FROM unnest(p.proargtypes::oid[]) WITH ORDINALITY AS x (oid, i) JOIN spelled t ON t.oid = x.oid ORDER BY x.i),
  array(SELECT coalesce(p.proargnames[i], '') FROM generate_subscripts(p.proargnames, 1) AS i WHERE p.proargmodes IS NULL OR p.proargmodes[i] IN ('i', 'b', 'v') ORDER BY i),
  r.name, r.kind, p.proretset, coalesce(v.name, ''), coalesce(v.kind, ''), p.pronargdefaults::integer, coalesce(nullif(a.aggkind, 'n')::text, ''), coalesce(a.aggnumdirectargs, 0)::integer,
  array(SELECT coalesce(p.proargnames[i], '') FROM generate_subscripts(p.proargmodes, 1) AS i WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
  array(SELECT t.name FROM generate_subscripts(p.proargmodes, 1) AS i JOIN spelled t ON t.oid = p.proallargtypes[i] WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
  array(SELECT t.kind FROM generate_subscripts(p.proargmodes, 1) AS i JOIN spelled t ON t.oid = p.proallargtypes[i] WHERE p.proargmodes[i] IN ('o', 't', 'b') ORDER BY i),
  p.provolatile::text, p.prosecdef,
  array(SELECT os.nspname || '.' || o.oprname FROM pg_operator o JOIN pg_namespace os ON os.oid = o.oprnamespace
    WHERE o.oprcode = p.oid AND array_remove(ARRAY[o.oprleft, o.oprright], 0::oid) = array(SELECT unnest(p.proargtypes::oid[])) ORDER BY 1),
  p.provolatile = 'i' AND NOT p.prosecdef AND l.lanname IN ('c', 'internal')
    AND EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.refclassid = 'pg_extension'::regclass AND d.deptype = 'e'),
  left(coalesce(obj_description(p.oid, 'pg_proc'), ''), 1000)
FROM pg_proc p
JOIN pg_namespace n ON n.oid = p.pronamespace
JOIN pg_language l ON l.oid = p.prolang
JOIN spelled r ON r.oid = p.prorettype
LEFT JOIN spelled v ON v.oid = nullif(p.provariadic, 0)
LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid
WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' AND p.prokind IN ('f', 'a', 'w')
  AND r.name NOT IN ('trigger', 'event_trigger', 'internal', 'language_handler', 'fdw_handler', 'index_am_handler', 'table_am_handler', 'tsm_handler', 'cstring', 'void')
  AND has_schema_privilege(n.oid, 'USAGE') AND has_function_privilege(p.oid, 'EXECUTE')
ORDER BY n.nspname COLLATE "C", p.proname COLLATE "C", p.oid
