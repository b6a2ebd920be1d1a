-- How pg_catalog and information_schema are laid out, and those of their rows that are the same
-- on every server: the lines of layout.tsv in package catalog.
WITH relations AS (
  SELECT c.oid, n.nspname, c.relname, c.relkind, c.relnamespace FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE n.nspname IN ('pg_catalog', 'information_schema') AND c.relkind IN ('r', 'v')
    AND NOT (n.nspname = 'information_schema' AND c.relname LIKE '\_pg%')
), lines (part, line) AS (
  SELECT 1, concat_ws(E'\t', 'relation', r.oid, r.nspname, r.relname, r.relkind,
    (SELECT string_agg(a.attname || ':' || CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE a.atttypid END, ',' ORDER BY a.attnum)
     FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = r.oid AND a.attnum > 0))
  FROM relations r
  UNION ALL
  SELECT 2, concat_ws(E'\t', 'type', t.oid, t.typname, t.typlen, t.typbyval, t.typtype, t.typcategory, t.typispreferred, t.typdelim, t.typelem, t.typarray,
    t.typsubscript, t.typinput, t.typoutput, t.typreceive, t.typsend, t.typmodin, t.typmodout, t.typalign, t.typstorage, t.typcollation)
  FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace WHERE n.nspname = 'pg_catalog' AND t.typrelid = 0
    AND NOT EXISTS (SELECT FROM pg_type e WHERE e.oid = t.typelem AND e.typrelid <> 0)
  UNION ALL
  SELECT 3, concat_ws(E'\t', 'regproc', p.oid, p.proname) FROM pg_proc p
  WHERE p.oid IN (SELECT unnest(ARRAY[typinput::oid, typoutput::oid, typreceive::oid, typsend::oid, typmodin::oid, typmodout::oid, typsubscript::oid]) FROM pg_type)
  UNION ALL
  SELECT 4, concat_ws(E'\t', 'row', 'pg_am', to_jsonb(x)) FROM (SELECT oid, amname, amtype FROM pg_am) x
  UNION ALL
  SELECT 4, concat_ws(E'\t', 'row', 'pg_collation', to_jsonb(x)) FROM (SELECT oid, collname, collnamespace, collowner, collprovider, collisdeterministic,
    collencoding, collcollate, collctype FROM pg_collation WHERE collname IN ('default', 'C', 'POSIX', 'ucs_basic')) x
  UNION ALL
  SELECT 4, concat_ws(E'\t', 'row', 'pg_language', to_jsonb(x)) FROM (SELECT oid, lanname, lanowner, lanispl, lanpltrusted FROM pg_language WHERE NOT lanispl) x
  UNION ALL
  SELECT 4, concat_ws(E'\t', 'row', 'pg_range', to_jsonb(x)) FROM (SELECT rngtypid::oid, rngsubtype::oid, rngmultitypid::oid, rngcollation::oid, rngsubopc::oid FROM pg_range) x
  UNION ALL
  SELECT 4, concat_ws(E'\t', 'row', 'pg_opclass', to_jsonb(x)) FROM (SELECT oid, opcmethod, opcname, opcnamespace, opcowner, opcfamily, opcintype::oid, opcdefault, opckeytype::oid
    FROM pg_opclass WHERE opcmethod = 403) x
)
SELECT line FROM lines ORDER BY part, line COLLATE "C";
