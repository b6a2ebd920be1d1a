-- The tables and views that the account may read, a line for each column. The type of a domain is
-- that of what it is over. A column is of a unique key as well where the key's condition or
-- expression is about it, where a column of a key is generated from it, where the key is a partition's own, and where it is the primary key
-- and a trigger may change it; of a foreign table, whose keys another server has, every column
-- may be.
WITH RECURSIVE heirs (root, member) AS (
  SELECT inhparent, inhrelid FROM pg_inherits
  UNION SELECT h.root, i.inhrelid FROM heirs h JOIN pg_inherits i ON i.inhparent = h.member),
keys (root, name) AS MATERIALIZED (
  SELECT coalesce(h.root, i.indrelid), a.attname
  FROM pg_index i LEFT JOIN heirs h ON h.member = i.indrelid
  JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum > 0
  WHERE (i.indisunique OR i.indisexclusion) AND NOT (i.indisprimary AND h.root IS NULL)
    AND NOT EXISTS (SELECT 1 FROM pg_inherits part WHERE part.inhrelid = i.indexrelid) -- which is a part of a key above
    AND (a.attnum = ANY (i.indkey::int2[]) OR 0 = ANY (i.indkey::int2[]) OR pg_get_expr(i.indpred, i.indrelid) LIKE '%.*%'
      OR EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = i.indexrelid
        AND d.refclassid = 'pg_class'::regclass AND d.refobjid = i.indrelid AND d.refobjsubid = a.attnum))
  UNION SELECT coalesce(h.root, i.indrelid), a.attname -- of which a column of a key is worked out
  FROM pg_index i LEFT JOIN heirs h ON h.member = i.indrelid
  JOIN pg_attribute made ON made.attrelid = i.indrelid AND made.attnum = ANY (i.indkey::int2[]) AND made.attgenerated <> ''
  JOIN pg_attrdef how ON how.adrelid = made.attrelid AND how.adnum = made.attnum
  JOIN pg_depend d ON d.classid = 'pg_attrdef'::regclass AND d.objid = how.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjid = i.indrelid
  JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = d.refobjsubid AND a.attnum > 0
  WHERE i.indisunique OR i.indisexclusion
  UNION SELECT coalesce(h.root, c.oid), a.attname
  FROM pg_class c LEFT JOIN heirs h ON h.member = c.oid
  JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 WHERE c.relkind = 'f'
  UNION SELECT coalesce(h.root, t.tgrelid), a.attname -- a trigger before INSERT can make another key of what is set
  FROM pg_trigger t LEFT JOIN heirs h ON h.member = t.tgrelid
  JOIN pg_constraint p ON p.conrelid = t.tgrelid AND p.contype = 'p'
  JOIN pg_attribute a ON a.attrelid = t.tgrelid AND a.attnum = ANY (p.conkey)
  WHERE NOT t.tgisinternal AND t.tgtype & 7 = 7),
domain (oid, base, modifier) AS (
  SELECT oid, typbasetype, typtypmod FROM pg_type WHERE typtype = 'd'
  UNION ALL SELECT d.oid, t.typbasetype, t.typtypmod FROM domain d JOIN pg_type t ON t.oid = d.base WHERE t.typtype = 'd')
SELECT n.nspname, c.relname, a.attname, format_type(t.oid, CASE WHEN d.oid IS NULL THEN a.atttypmod ELSE d.modifier END),
  coalesce(element.typtype, t.typtype)::text, CASE WHEN d.oid IS NULL THEN '' ELSE format_type(a.atttypid, NULL) END, a.attnotnull,
  coalesce(a.attnum = ANY (k.conkey), false) AND NOT inherits.too,
  keys.root IS NOT NULL OR coalesce(a.attnum = ANY (k.conkey), false) AND inherits.too,
  EXISTS (SELECT FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid JOIN pg_am am ON am.oid = ic.relam -- a list of values can be searched in it
    WHERE i.indrelid = c.oid AND i.indisvalid AND i.indpred IS NULL AND i.indkey[0] = a.attnum AND i.indcollation[0] = a.attcollation
      AND am.amname IN ('btree', 'hash')),
  CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'f' THEN 'foreign table' WHEN 'p' THEN 'partitioned table' ELSE '' END,
  left(coalesce(said.description, ''), 1000), left(coalesce(about.description, ''), 1000),
  CASE WHEN co.oid IS NULL THEN '' WHEN co.collname = 'default' AND cn.nspname = 'pg_catalog' THEN 'default'
    ELSE CASE WHEN co.collisdeterministic THEN '' ELSE '~' END || cn.nspname || '.' || co.collname END
FROM pg_class c
JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
LEFT JOIN keys ON keys.root = c.oid AND keys.name = a.attname
LEFT JOIN domain d ON d.oid = a.atttypid AND NOT EXISTS (SELECT FROM pg_type more WHERE more.oid = d.base AND more.typtype = 'd')
JOIN pg_type t ON t.oid = coalesce(d.base, a.atttypid)
LEFT JOIN pg_type element ON element.oid = t.typelem AND t.typcategory = 'A'
LEFT JOIN pg_description said ON said.objoid = c.oid AND said.classoid = 'pg_class'::regclass AND said.objsubid = 0
LEFT JOIN pg_description about ON about.objoid = c.oid AND about.classoid = 'pg_class'::regclass AND about.objsubid = a.attnum
LEFT JOIN pg_collation co ON co.oid = a.attcollation
LEFT JOIN pg_namespace cn ON cn.oid = co.collnamespace
CROSS JOIN LATERAL (SELECT c.relkind = 'r' AND EXISTS (SELECT FROM pg_inherits i WHERE i.inhparent = c.oid) AS too) inherits -- whose heirs have keys of their own
LEFT JOIN pg_constraint k ON k.conrelid = c.oid AND k.contype = 'p'
WHERE c.relkind IN ('r', 'p', 'f', 'm', 'v') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'
  AND NOT EXISTS (SELECT 1 FROM pg_inherits i WHERE i.inhrelid = c.oid)
  AND has_schema_privilege(n.oid, 'USAGE') AND has_column_privilege(c.oid, a.attnum, 'SELECT')
ORDER BY n.nspname COLLATE "C", c.relname COLLATE "C", a.attnum
