-- Gneiss's own functions, made on each connection in its temporary schema, so that
-- nothing is left in the database. None of them fails: what cannot be converted,
-- is out of range or has no result is NULL. Those of one SELECT are merged into
-- the queries that call them.

-- Casts from texts.

CREATE FUNCTION pg_temp.gneiss_bigint(x text) RETURNS bigint LANGUAGE plpgsql IMMUTABLE STRICT AS $$
BEGIN
  RETURN CASE WHEN btrim(x, E' \t\n\r') ~ '^[-+]?[0-9]+$' THEN x::bigint END;
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_double(x text) RETURNS double precision LANGUAGE plpgsql IMMUTABLE STRICT AS $$
BEGIN
  RETURN CASE WHEN btrim(x, E' \t\n\r') ~ '^[-+]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][-+]?[0-9]+)?$' THEN x::double precision END;
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_boolean(x text) RETURNS boolean LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE lower(btrim(x, E' \t\n\r'))
    WHEN 't' THEN true WHEN 'true' THEN true WHEN 'yes' THEN true WHEN 'on' THEN true WHEN '1' THEN true
    WHEN 'f' THEN false WHEN 'false' THEN false WHEN 'no' THEN false WHEN 'off' THEN false WHEN '0' THEN false END
$$;

CREATE FUNCTION pg_temp.gneiss_timestamp(x text) RETURNS timestamp LANGUAGE plpgsql IMMUTABLE STRICT AS $$
BEGIN
  RETURN CASE WHEN btrim(x, E' \t\n\r') ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}( [0-9]{2}:[0-9]{2}:[0-9]{2})?$' THEN x::timestamp END;
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_date(x text) RETURNS date LANGUAGE sql IMMUTABLE AS $$
  SELECT pg_temp.gneiss_timestamp(x)::date
$$;

-- Casts between other types.

CREATE FUNCTION pg_temp.gneiss_whole(x double precision) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE
    WHEN x >= 9223372036854775807::double precision THEN 9223372036854775807
    WHEN x > -9223372036854775808::double precision THEN trunc(x + CASE WHEN x < 0 THEN -0.5::double precision ELSE 0.5::double precision END)::bigint
    WHEN x <= -9223372036854775808::double precision THEN -9223372036854775808 END
$$;

CREATE FUNCTION pg_temp.gneiss_text(x timestamp) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN isfinite(x) THEN to_char(x, 'YYYY-MM-DD HH24:MI:SS') END
$$;

CREATE FUNCTION pg_temp.gneiss_text(x double precision) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x < 'Infinity' AND x > '-Infinity' THEN x::text END
$$;

CREATE FUNCTION pg_temp.gneiss_midnight(x date) RETURNS timestamp LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN x::timestamp END
$$;

-- Dates.

CREATE FUNCTION pg_temp.gneiss_days(x date, n bigint) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN n BETWEEN -4000000 AND 4000000 AND x BETWEEN DATE '0001-01-01' AND DATE '9999-12-31'
    AND x + n::integer BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN x + n::integer END
$$;

CREATE FUNCTION pg_temp.gneiss_days_back(x date, n bigint) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN n BETWEEN -4000000 AND 4000000 THEN pg_temp.gneiss_days(x, -n) END
$$;

CREATE FUNCTION pg_temp.gneiss_between(x date, y date) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN isfinite(x) AND isfinite(y) THEN (x - y)::bigint END
$$;

CREATE FUNCTION pg_temp.gneiss_shift(x timestamp, months bigint, days bigint, seconds bigint) RETURNS timestamp LANGUAGE plpgsql IMMUTABLE STRICT AS $$
DECLARE
  y timestamp;
BEGIN
  y := x + make_interval(months => months::integer, days => days::integer, secs => seconds);
  RETURN CASE WHEN y BETWEEN TIMESTAMP '0001-01-01' AND TIMESTAMP '9999-12-31 23:59:59.999999' THEN y END;
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_shift(x date, months bigint, days bigint, seconds bigint) RETURNS timestamp LANGUAGE sql IMMUTABLE AS $$
  SELECT pg_temp.gneiss_shift(pg_temp.gneiss_midnight(x), months, days, seconds)
$$;

CREATE FUNCTION pg_temp.gneiss_truncate(field text, x date) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN date_trunc(field, x::timestamp)::date END
$$;

CREATE FUNCTION pg_temp.gneiss_truncate(field text, x timestamp) RETURNS timestamp LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN TIMESTAMP '0001-01-01' AND TIMESTAMP '9999-12-31 23:59:59.999999' THEN date_trunc(field, x) END
$$;

CREATE FUNCTION pg_temp.gneiss_part(field text, x timestamp) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN isfinite(x) THEN floor(date_part(field, x))::bigint END
$$;

CREATE FUNCTION pg_temp.gneiss_part(field text, x date) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x BETWEEN DATE '0001-01-01' AND DATE '9999-12-31' THEN floor(date_part(field, x::timestamp))::bigint END
$$;

CREATE FUNCTION pg_temp.gneiss_to_char(x timestamp, form text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN isfinite(x) THEN to_char(x, form) END
$$;

CREATE FUNCTION pg_temp.gneiss_to_char(x date, form text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT to_char(pg_temp.gneiss_midnight(x), form)
$$;

CREATE FUNCTION pg_temp.gneiss_make_date(y bigint, m bigint, d bigint) RETURNS date LANGUAGE plpgsql IMMUTABLE STRICT AS $$
BEGIN
  RETURN CASE WHEN y BETWEEN 1 AND 9999 THEN make_date(y::integer, m::integer, d::integer) END;
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

-- Numbers. The database fails on results that are too great, and on those that are
-- too small to be other than nothing.

CREATE FUNCTION pg_temp.gneiss_number(x numeric) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN abs(x) <= 1.7e308 AND (abs(x) >= 1e-300 OR x = 0) THEN x::double precision END
$$;

CREATE FUNCTION pg_temp.gneiss_abs(x bigint) RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x > -9223372036854775808 THEN abs(x) END
$$;

CREATE FUNCTION pg_temp.gneiss_abs(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT abs(x)
$$;

CREATE FUNCTION pg_temp.gneiss_sqrt(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x >= 0 AND x < 'Infinity' THEN sqrt(x) END
$$;

CREATE FUNCTION pg_temp.gneiss_exp(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x < -745 THEN 0 WHEN x <= 709.78 THEN exp(x) END
$$;

CREATE FUNCTION pg_temp.gneiss_ln(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x > 0 AND x < 'Infinity' THEN ln(x) END
$$;

CREATE FUNCTION pg_temp.gneiss_log(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN x > 0 AND x < 'Infinity' THEN log(x) END
$$;

CREATE FUNCTION pg_temp.gneiss_power(x double precision, y double precision) RETURNS double precision LANGUAGE plpgsql IMMUTABLE STRICT AS $$
BEGIN
  RETURN power(x, y);
EXCEPTION WHEN others THEN RETURN NULL;
END $$;

CREATE FUNCTION pg_temp.gneiss_round(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN abs(x) < 4503599627370496 THEN sign(x) * floor(abs(x) + 0.5::double precision) ELSE x END
$$;

CREATE FUNCTION pg_temp.gneiss_round(x double precision, decimals bigint) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN abs(x) < 4503599627370496 THEN round(x::numeric, least(decimals, 30)::integer)::double precision ELSE x END
$$;

CREATE FUNCTION pg_temp.gneiss_trunc(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT trunc(x)
$$;

CREATE FUNCTION pg_temp.gneiss_trunc(x double precision, decimals bigint) RETURNS double precision LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT CASE WHEN abs(x) < 4503599627370496 AND decimals <= 280
    THEN trunc(x * 10::double precision ^ decimals) / 10::double precision ^ decimals ELSE x END
$$;

-- Treatments (ISO/IEC 20889).

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

CREATE FUNCTION pg_temp.gneiss_noise(x date, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT pg_temp.gneiss_days(x, pg_temp.gneiss_steps(x::text, width, inner_block, outer_block, of, row_key))
$$;

CREATE FUNCTION pg_temp.gneiss_noise(x timestamp, width double precision, inner_block bytea, outer_block bytea, of bigint, row_key text) RETURNS timestamp LANGUAGE sql IMMUTABLE AS $$
  SELECT pg_temp.gneiss_shift(x, 0, pg_temp.gneiss_steps(x::text, width, inner_block, outer_block, of, row_key), 0)
$$;
