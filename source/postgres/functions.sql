-- Gneiss's own functions, made on each connection in its temporary schema, so that
-- nothing is left in the database. They work out treatments (ISO/IEC 20889), and none of
-- them fails: what is out of range or has no result is NULL. Those of one SELECT are merged
-- into the queries that call them.

-- Results that are taken back to a narrower type.

CREATE FUNCTION pg_temp.gneiss_fit_int2(x bigint) RETURNS smallint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN -32768 AND 32767 THEN x::smallint END
$$;

CREATE FUNCTION pg_temp.gneiss_fit_int4(x bigint) RETURNS integer LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN -2147483648 AND 2147483647 THEN x::integer END
$$;

CREATE FUNCTION pg_temp.gneiss_fit_float4(x double precision) RETURNS real LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x = 0 OR abs(x) BETWEEN 1e-37 AND 3e38 THEN x::real END
$$;

-- Texts and dates.

CREATE FUNCTION pg_temp.gneiss_beginning(x text, n bigint) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT left(x, least(n, 1000000000)::integer)
$$;

CREATE FUNCTION pg_temp.gneiss_truncate(x date, unit text) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN DATE '4000-01-01 BC' AND DATE '290000-12-31' THEN date_trunc(unit, x::timestamp)::date END
$$;

CREATE FUNCTION pg_temp.gneiss_truncate(x timestamp, unit text) RETURNS timestamp LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN TIMESTAMP '4000-01-01 BC' AND TIMESTAMP '290000-12-31' THEN date_trunc(unit, x) END
$$;

CREATE FUNCTION pg_temp.gneiss_truncate(x timestamptz, unit text) RETURNS timestamptz LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_truncate(x AT TIME ZONE 'UTC', unit) AT TIME ZONE 'UTC'
$$;

CREATE FUNCTION pg_temp.gneiss_days(x timestamp, n bigint) RETURNS timestamp LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN TIMESTAMP '4000-01-01 BC' AND TIMESTAMP '200000-12-31' AND n BETWEEN -4000000 AND 4000000
    THEN x + make_interval(days => n::integer) END
$$;

CREATE FUNCTION pg_temp.gneiss_mask(x text, first bigint, last bigint, fill text, keep text) RETURNS text LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
DECLARE
  n integer := length(x);
  head integer := least(first, 1000000000);
  tail integer := least(last, 1000000000);
  middle text;
BEGIN
  IF head + tail >= n THEN
    head := 0;
    tail := 0;
  END IF;
  middle := substr(x, head + 1, n - head - tail);
  IF keep = '' THEN
    middle := repeat(fill, n - head - tail);
  ELSE
    middle := regexp_replace(middle, '[^' || regexp_replace(keep, '([][\\^-])', '\\\1', 'g') || ']', replace(fill, '\', '\\'), 'g');
  END IF;
  RETURN left(x, head) || middle || substr(x, n - tail + 1);
END $$;

-- HMAC-SHA-256 (RFC 2104) under a key that comes as its two padded blocks.
CREATE FUNCTION pg_temp.gneiss_hmac(x text, inner_block bytea, outer_block bytea) RETURNS bytea LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT sha256(outer_block || sha256(inner_block || convert_to(x, 'UTF8')))
$$;

CREATE FUNCTION pg_temp.gneiss_pseudonym(x text, inner_block bytea, outer_block bytea) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT left(encode(pg_temp.gneiss_hmac(x, inner_block, outer_block), 'hex'), 32)
$$;

-- The first 53 bits of the first bytes of a hash.
CREATE FUNCTION pg_temp.gneiss_bits(x bytea) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT ('x' || encode(substr(x, 1, 7), 'hex'))::bit(56)::bigint >> 3
$$;

CREATE FUNCTION pg_temp.gneiss_pseudonym(x bigint, inner_block bytea, outer_block bytea) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_bits(pg_temp.gneiss_hmac(x::text, inner_block, outer_block))
$$;

-- A UUID of version 8 (RFC 9562), whose bits are the hash's.
CREATE FUNCTION pg_temp.gneiss_pseudonym(x uuid, inner_block bytea, outer_block bytea) RETURNS uuid LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT encode(set_byte(set_byte(h, 6, (get_byte(h, 6) & 15) | 128), 8, (get_byte(h, 8) & 63) | 128), 'hex')::uuid
  FROM (SELECT substr(pg_temp.gneiss_hmac(x::text, inner_block, outer_block), 1, 16) AS h) AS hashed
$$;

CREATE FUNCTION pg_temp.gneiss_rounded(x bigint, decimals bigint, multiple double precision) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
DECLARE
  m numeric := trunc(multiple::numeric);
  y numeric;
BEGIN
  y := CASE WHEN m >= 1 THEN round(x::numeric / m) * m END;
  RETURN CASE WHEN y BETWEEN -9223372036854775808 AND 9223372036854775807 THEN y::bigint END;
END $$;

CREATE FUNCTION pg_temp.gneiss_rounded(x double precision, decimals bigint, multiple double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE
    WHEN abs(x) >= 1e150 THEN NULL
    WHEN multiple > 1e-150 AND abs(x) < multiple / 2 THEN 0
    WHEN multiple > 1e-150 THEN sign(x) * floor(abs(x) / multiple + 0.5::double precision) * multiple
    WHEN abs(x) >= 4503599627370496 THEN x
    WHEN decimals <= 280 THEN sign(x) * floor(abs(x) * 10::double precision ^ decimals + 0.5::double precision) / 10::double precision ^ decimals END
$$;

CREATE FUNCTION pg_temp.gneiss_rounded(x numeric, decimals bigint, multiple numeric) RETURNS numeric LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE
    WHEN x IN ('NaN', 'Infinity', '-Infinity') OR abs(x) >= 1e1000 THEN NULL
    WHEN multiple > 0 THEN round(x / multiple) * multiple
    ELSE round(x, decimals::integer) END
$$;

CREATE FUNCTION pg_temp.gneiss_bucket(x bigint, width double precision) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
DECLARE
  w numeric := trunc(width::numeric);
  y numeric;
BEGIN
  y := CASE WHEN w >= 1 THEN floor(x::numeric / w) * w END;
  RETURN CASE WHEN y BETWEEN -9223372036854775808 AND 9223372036854775807 THEN y::bigint END;
END $$;

CREATE FUNCTION pg_temp.gneiss_bucket(x double precision, width double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE
    WHEN abs(x) >= 1e150 OR width <= 1e-150 THEN NULL
    WHEN abs(x) < width THEN CASE WHEN x < 0 THEN -width ELSE 0 END
    ELSE floor(x / width) * width END
$$;

CREATE FUNCTION pg_temp.gneiss_bucket(x numeric, width numeric) RETURNS numeric LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN width > 0 AND x NOT IN ('NaN', 'Infinity', '-Infinity') AND abs(x) < 1e1000 THEN round(floor(x / width) * width, greatest(scale(x), scale(width))) END
$$;

-- Noise: the amount is made from the column, the value and the key of its row.
CREATE FUNCTION pg_temp.gneiss_amount(x text, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_bits(pg_temp.gneiss_hmac(of || '|' || x || row_key, inner_block, outer_block))
$$;

CREATE FUNCTION pg_temp.gneiss_steps(x text, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_amount(x, inner_block, outer_block, of, row_key) % (2 * least(width, 1e15)::bigint + 1) - least(width, 1e15)::bigint
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x bigint, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT PARALLEL SAFE AS $$
DECLARE
  n bigint := pg_temp.gneiss_steps(x::text, width, inner_block, outer_block, of, row_key);
BEGIN
  -- Past the greatest or least number it moves the other way.
  RETURN CASE WHEN x::numeric + n BETWEEN -9223372036854775808 AND 9223372036854775807 THEN (x::numeric + n)::bigint ELSE (x::numeric - n)::bigint END;
END $$;

CREATE FUNCTION pg_temp.gneiss_noise(x double precision, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN width < 1e-290 THEN x WHEN abs(x) < 1e307 AND width < 1e307 THEN x + (pg_temp.gneiss_amount(x::text, inner_block, outer_block, of, row_key) / 4503599627370496::double precision - 1) * width END
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x numeric, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS numeric LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x NOT IN ('NaN', 'Infinity', '-Infinity') AND abs(x) < 1e1000
    THEN round(x + (pg_temp.gneiss_amount(x::text, inner_block, outer_block, of, row_key)::numeric / 4503599627370496 - 1) * width::numeric, greatest(scale(x), 2)) END
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x timestamp, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS timestamp LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_days(x, pg_temp.gneiss_steps(x::text, width, inner_block, outer_block, of, row_key))
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x date, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_days(CASE WHEN isfinite(x) AND x BETWEEN DATE '4000-01-01 BC' AND DATE '200000-12-31' THEN x::timestamp END,
    pg_temp.gneiss_steps(x::text, width, inner_block, outer_block, of, row_key))::date
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x timestamptz, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS timestamptz LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_noise(x AT TIME ZONE 'UTC', width, inner_block, outer_block, of, row_key) AT TIME ZONE 'UTC'
$$;

-- Values within documents. A path goes through the elements of arrays; what it leads to and
-- is no text, number or truth value is null. A document that cannot be taken apart is NULL.

CREATE FUNCTION pg_temp.gneiss_leaf(x jsonb, how text, first bigint, last bigint, fill text, keep text, given text, inner_block bytea, outer_block bytea) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
  SELECT CASE
    WHEN how = 'constant' THEN to_jsonb(given)
    WHEN how NOT IN ('mask', 'pseudonym') OR jsonb_typeof(x) IN ('object', 'null') THEN 'null'::jsonb
    WHEN how = 'mask' THEN to_jsonb(pg_temp.gneiss_mask(x #>> '{}', first, last, fill, keep))
    ELSE to_jsonb(pg_temp.gneiss_pseudonym(x #>> '{}', inner_block, outer_block)) END
$$;

CREATE FUNCTION pg_temp.gneiss_in(doc jsonb, path text[], how text, first bigint, last bigint, fill text, keep text, given text, inner_block bytea, outer_block bytea) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
  IF jsonb_typeof(doc) = 'array' THEN
    RETURN (SELECT coalesce(jsonb_agg(pg_temp.gneiss_in(e, path, how, first, last, fill, keep, given, inner_block, outer_block) ORDER BY n), '[]')
      FROM jsonb_array_elements(doc) WITH ORDINALITY AS x (e, n));
  ELSIF cardinality(path) = 0 THEN
    RETURN pg_temp.gneiss_leaf(doc, how, first, last, fill, keep, given, inner_block, outer_block);
  ELSIF jsonb_typeof(doc) = 'object' AND doc ? path[1] THEN
    RETURN jsonb_set(doc, path[1:1], pg_temp.gneiss_in(doc -> path[1], path[2:], how, first, last, fill, keep, given, inner_block, outer_block));
  END IF;
  RETURN doc;
END $$;

CREATE FUNCTION pg_temp.gneiss_within(doc jsonb, path text[], how text, first bigint, last bigint, fill text, keep text, given text, inner_block bytea, outer_block bytea) RETURNS jsonb LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
  RETURN pg_temp.gneiss_in(doc, path, how, first, last, fill, keep, given, inner_block, outer_block);
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_within(doc json, path text[], how text, first bigint, last bigint, fill text, keep text, given text, inner_block bytea, outer_block bytea) RETURNS json LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
  RETURN pg_temp.gneiss_in(doc::jsonb, path, how, first, last, fill, keep, given, inner_block, outer_block);
EXCEPTION WHEN others THEN RETURN NULL;
END $$;
