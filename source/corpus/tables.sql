CREATE TYPE rock AS ENUM ('gneiss', 'slate', 'chert');
CREATE TABLE typed (id INTEGER PRIMARY KEY, bool BOOLEAN, int2 SMALLINT, int4 INTEGER, int8 BIGINT, numeric NUMERIC, money2 NUMERIC(15,2), float4 REAL, float8 DOUBLE PRECISION,
	text TEXT, varchar VARCHAR(20), bpchar CHAR(5), name NAME, bytea BYTEA, date DATE, time TIME, timetz TIMETZ, timestamp TIMESTAMP, timestamptz TIMESTAMPTZ, interval INTERVAL,
	uuid UUID, json JSON, jsonb JSONB, jsonpath JSONPATH, inet INET, cidr CIDR, macaddr MACADDR, macaddr8 MACADDR8, bit BIT(8), varbit VARBIT, point POINT, box BOX, circle CIRCLE, lseg LSEG, line LINE, path PATH, polygon POLYGON,
	tsvector TSVECTOR, tsquery TSQUERY, int4range INT4RANGE, int8range INT8RANGE, numrange NUMRANGE, daterange DATERANGE, tsrange TSRANGE, tstzrange TSTZRANGE,
	int4multirange INT4MULTIRANGE, int8multirange INT8MULTIRANGE, nummultirange NUMMULTIRANGE, datemultirange DATEMULTIRANGE, tsmultirange TSMULTIRANGE, tstzmultirange TSTZMULTIRANGE,
	_int4 INTEGER[], _text TEXT[], _numeric NUMERIC[], _jsonb JSONB[], _float8 FLOAT8[], _bool BOOLEAN[], _int8 BIGINT[], _date DATE[], rock rock, _rock rock[], plain JSONB, part INTERVAL DAY TO SECOND(2), months INTERVAL YEAR TO MONTH);
INSERT INTO typed VALUES (1, true, 7, 42, 9000000000, 12345678901234567890.123456789, 1234.50, 0.5, 2.718281828459045,
	'Alder', 'Ash', 'ab', 'Oak', '\x00ff41', '2024-02-29', '13:45:10.25', '13:45:10+02', '2024-02-29 13:45:10.125', '2024-02-29 13:45:10.125+00', '1 year 2 mons 3 days 04:05:06.7',
	'0f8fad5b-d9cb-469f-a165-70867728950e', '{"a": [1, 2.50, null], "b": {"c": "x"}}', '{"a": [1, 2.50, null], "b": {"c": "x"}}', '$.a[*]', '192.168.1.5/24', '10.1.0.0/16', '08:00:2b:01:02:03', '08:00:2b:01:02:03:04:05', '10101010', '101', '(1,2)', '(3,4),(1,1)', '<(1,2),3>', '[(0,0),(3,4)]', '{1,2,3}', '((0,0),(1,1),(2,0))', '((0,0),(1,1),(2,0))',
	'''fat'' ''cat'':2', 'fat & rat', '[1,10)', '[1,10)', '[1.5,9.5)', '[2024-01-01,2024-12-31)', '[2024-01-01,2024-06-01)', '[2024-01-01 00:00+00,2024-06-01 00:00+00)',
	'{[1,5),[7,9)}', '{[1,5),[7,9)}', '{[1.5,2.5)}', '{[2024-01-01,2024-02-01)}', '{[2024-01-01,2024-02-01)}', '{[2024-01-01 00:00+00,2024-02-01 00:00+00)}',
	'{3,1,2}', '{b,NULL,"a c"}', '{1.50,2}', '{"{\"k\": 1}"}', '{1.5,2}', '{t,f}', '{9000000000}', '{2024-02-29}', 'slate', '{slate,gneiss}', '{"n": 1}');
UPDATE typed SET part = '1 day 02:03:04.567', months = '1 year 2 months 3 days' WHERE id = 1;
INSERT INTO typed VALUES (2, false, -3, -1, -5, -0.10, -0.10, -1.25, -3.5, 'birch %', 'Beech', 'z', 'elm', '\x', '1999-12-31', '00:00:00', '00:00:00-05', '1999-12-31 23:59:59', '1999-12-31 23:59:59+00', '-3 days',
	'7c9e6679-7425-40de-944b-e07fc1f90ae7', '[]', '[]', 'strict $', '::1', '::/0', '00:00:00:00:00:00', '00:00:00:00:00:00:00:00', '00000001', '', '(0,0)', '(1,1),(0,0)', '<(0,0),1>', '[(1,1),(1,1)]', '{0,-1,0}', '[(0,0),(1,1)]', '((5,5),(6,6),(7,5))',
	'', '!cat', 'empty', '(,5]', '(,)', '[1999-01-01,)', 'empty', 'empty', '{}', '{}', '{}', '{}', '{}', '{}', '{}', '{}', '{NULL}', '{}', '{}', '{}', '{}', '{}', 'gneiss', '{}', '[1, "n"]');
INSERT INTO typed (id) VALUES (3);
CREATE TABLE other (id INTEGER PRIMARY KEY, typed_id INTEGER, amount NUMERIC(12,3), note TEXT);
INSERT INTO other SELECT i, i % 4, i * 1.125, 'note ' || i FROM generate_series(1, 12) AS i;
-- What statements change: with keys, checks, a default, a generated column and a collation.
CREATE TABLE kept (id INTEGER PRIMARY KEY, code INTEGER UNIQUE, v TEXT DEFAULT 'none', n NUMERIC(8,2), day DATE, tags INTEGER[], twice INTEGER GENERATED ALWAYS AS (code * 2) STORED,
	name TEXT COLLATE "C", CHECK (v <> 'bad'), UNIQUE (name, day));
INSERT INTO kept (id, code, v, n, day, tags, name) SELECT i, i * 10, 'v' || i, i * 1.5, DATE '2024-01-01' + i, ARRAY[i, i + 1], chr(96 + i) FROM generate_series(1, 8) AS i;
