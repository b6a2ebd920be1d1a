-- +goose Up
-- What was read of labels, by who, from where, as whom, for what, by which role and in which tables: in each
-- month and on each day, of each label and of any. The counts of a time are those of its months, with or
-- without some days. What roles and tables come to is counted from now on; of what has two labels, the
-- records until now are counted twice under any.
CREATE TABLE label_count (
  span  TEXT NOT NULL,    -- YYYY-MM or YYYY-MM-DD, UTC
  label TEXT NOT NULL,    -- '': any
  by    TEXT NOT NULL,    -- person, address, other, purpose, role, table
  name  TEXT NOT NULL,    -- of roles and tables: the number
  n     INTEGER NOT NULL, -- records
  rows  INTEGER NOT NULL,
  PRIMARY KEY (span, label, by, name)
) STRICT, WITHOUT ROWID;
INSERT INTO label_count
  WITH read AS (
    SELECT day, label, actor, standing, address, n, rows,
      standing <> '' AND standing <> actor AND substr(standing, 1, length(actor) + 1) <> actor || ' ' AS other
    FROM label_day WHERE decision <> 'refused'),
  named AS (
    SELECT day, label, 'person' AS by, actor AS name, n, rows FROM read WHERE NOT other
    UNION ALL SELECT day, label, 'address', address, n, rows FROM read WHERE address <> ''
    UNION ALL SELECT day, label, 'other', actor || ' as ' || substr(standing, 1, instr(standing || ' ', ' ') - 1), n, rows FROM read WHERE other
    UNION ALL SELECT day, label, 'purpose', substr(standing, instr(standing, ' for ') + 5), n, rows FROM read WHERE instr(standing, ' for ') > 0)
  SELECT substr(day, 1, size.value), CASE any.value WHEN 1 THEN '' ELSE label END, by, name, sum(n), sum(rows)
    FROM named, json_each('[7, 10]') size, json_each('[0, 1]') any GROUP BY 1, 2, 3, 4;
DROP TABLE label_month;
CREATE INDEX use_set_of ON use_set (json_extract(needs, '$.s')); -- the subject

-- +goose Down
DROP INDEX use_set_of;
CREATE TABLE label_month (
  month    TEXT NOT NULL,
  label    TEXT NOT NULL,
  actor    TEXT NOT NULL,
  standing TEXT NOT NULL,
  address  TEXT NOT NULL,
  n        INTEGER NOT NULL,
  rows     INTEGER NOT NULL,
  PRIMARY KEY (month, label, actor, standing, address)
) STRICT, WITHOUT ROWID;
INSERT INTO label_month SELECT substr(day, 1, 7), label, actor, standing, address, sum(n), sum(rows) FROM label_day
  WHERE decision <> 'refused' GROUP BY 1, 2, 3, 4, 5;
DROP TABLE label_count;
