-- +goose Up
-- Records that were written together are one page: what several of them say is in it once. Those that end others, have
-- ends or are of somebody as somebody else are rows of their own, as are those of quiet times.
CREATE TABLE page (
  first    INTEGER PRIMARY KEY, -- the number of its first record
  last     INTEGER NOT NULL,    -- that of its last: none between is elsewhere
  previous TEXT NOT NULL,       -- the hash of the record before the first
  said     BLOB NOT NULL,       -- JSONB: arrays of actor, standing, action, decision, text, objects, labels, missing, reason, address, client and uses
  of       BLOB NOT NULL,       -- JSONB: for each record, which of these it says
  rows     BLOB NOT NULL,       -- JSONB: for each record
  took_us  BLOB NOT NULL,       -- JSONB: for each record
  at       TEXT NOT NULL,       -- 24 characters for each record
  hashes   BLOB NOT NULL        -- 32 bytes for each record
) STRICT;
-- Who did something that is in a page of a stretch.
CREATE TABLE page_actor (
  stretch INTEGER NOT NULL, -- (id - 1) / 1000
  actor   TEXT NOT NULL,
  PRIMARY KEY (stretch, actor)
) STRICT, WITHOUT ROWID;
-- The records of pages as rows.
CREATE VIEW paged AS
  SELECT p.first + l.key AS id, substr(p.at, 24 * l.key + 1, 24) AS at, p.said ->> ('$[' || l.value || '][0]') AS actor,
    p.said ->> ('$[' || l.value || '][1]') AS standing, p.said ->> ('$[' || l.value || '][2]') AS action,
    p.said ->> ('$[' || l.value || '][3]') AS decision, p.said ->> ('$[' || l.value || '][4]') AS text,
    p.said ->> ('$[' || l.value || '][5]') AS objects, p.said ->> ('$[' || l.value || '][6]') AS labels,
    p.said ->> ('$[' || l.value || '][7]') AS missing, p.said ->> ('$[' || l.value || '][8]') AS reason, p.rows ->> l.key AS rows,
    p.took_us ->> l.key AS took_us, p.said ->> ('$[' || l.value || '][9]') AS address,
    CASE l.key WHEN 0 THEN p.previous ELSE lower(hex(substr(p.hashes, 32 * l.key - 31, 32))) END AS previous,
    lower(hex(substr(p.hashes, 32 * l.key + 1, 32))) AS hash, p.said ->> ('$[' || l.value || '][10]') AS client, 0 AS open, 0 AS ends,
    p.said ->> ('$[' || l.value || '][11]') AS uses, p.first AS page, p.said AS said
    FROM page p, json_each(p.of) l;
-- All records. page is the first number of what a record is kept in, by which it is found: itself, where it is a row.
CREATE VIEW entry AS
  SELECT id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client, open, ends,
    uses, id AS page FROM record
  UNION ALL SELECT id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client, open,
    ends, uses, page FROM paged;

-- +goose Down
INSERT INTO record (id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client,
    open, ends, uses)
  SELECT id, at, actor, standing, action, decision, text, objects, labels, missing, reason, rows, took_us, address, previous, hash, client, open, ends,
    uses FROM paged;
DROP VIEW entry;
DROP VIEW paged;
DROP TABLE page_actor;
DROP TABLE page;
