-- Foreign keys, with the columns of both sides.
SELECT n.nspname, c.relname, pn.nspname, p.relname,
  array(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY AS x (num, i) JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = x.num ORDER BY x.i),
  array(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY AS x (num, i) JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = x.num ORDER BY x.i)
FROM pg_constraint k
JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_class p ON p.oid = k.confrelid JOIN pg_namespace pn ON pn.oid = p.relnamespace
WHERE k.contype = 'f'
ORDER BY k.oid
