package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"gneiss/demo"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// TestOperatorsOfTheSource: values of an extension's type are compared as their database compares them, by everyone who may
// read them. An operator that calls a routine which somebody has written takes EXECUTE on that. Neither is worked out on a row
// that a policy hides.
func TestOperatorsOfTheSource(t *testing.T) {
	svc, server, url := onBoth(t)
	ctx := context.Background()
	if err := server.Exec(url, `CREATE SCHEMA extensions; CREATE EXTENSION citext SCHEMA extensions; CREATE EXTENSION hstore SCHEMA extensions;
		CREATE EXTENSION ltree SCHEMA extensions;
		CREATE TABLE drilling.mails (id integer PRIMARY KEY, district text, mail extensions.citext, tags extensions.hstore, path extensions.ltree);
		INSERT INTO drilling.mails VALUES (1, 'north', 'Flint@north.test', 'a=>1', 'top.north'), (2, 'north', 'CHERT@north.test', 'b=>2, c=>1', 'top.north.ice'),
			(3, 'south', 'flint@NORTH.test', 'a=>1', 'top.south'), (4, 'south', 'secret@south.test', 'a=>1', 'top.south.x'), (5, 'north', NULL, '', NULL);
		CREATE FUNCTION drilling.tells(a text, b text) RETURNS boolean LANGUAGE plpgsql IMMUTABLE COST 0.0001 AS
			'BEGIN IF a LIKE ''%south%'' THEN RAISE EXCEPTION ''there is %'', a; END IF; RETURN a = b; END';
		CREATE FUNCTION drilling.tells(a extensions.citext, b integer) RETURNS boolean LANGUAGE sql IMMUTABLE COST 0.0001 AS
			'SELECT drilling.tells(a::text, b::text)';
		CREATE FUNCTION drilling.tells(a extensions.citext, b extensions.citext) RETURNS boolean LANGUAGE sql IMMUTABLE COST 0.0001 AS
			'SELECT drilling.tells(a::text, b::text)';
		CREATE OPERATOR drilling.=== (LEFTARG = extensions.citext, RIGHTARG = extensions.citext, FUNCTION = drilling.tells);
		CREATE OPERATOR drilling.=== (LEFTARG = text, RIGHTARG = text, FUNCTION = drilling.tells);
		CREATE OPERATOR drilling.= (LEFTARG = extensions.citext, RIGHTARG = integer, FUNCTION = drilling.tells);
		CREATE TYPE drilling.state AS ENUM ('open', 'shut'); ALTER TABLE drilling.mails ADD state drilling.state DEFAULT 'open';
		CREATE FUNCTION drilling.tells(a drilling.state, b drilling.state) RETURNS boolean LANGUAGE sql IMMUTABLE AS 'SELECT false';
		CREATE OPERATOR drilling.= (LEFTARG = drilling.state, RIGHTARG = drilling.state, FUNCTION = drilling.tells);
		CREATE SCHEMA "odd ""name."; CREATE OPERATOR "odd ""name.".=== (LEFTARG = text, RIGHTARG = integer, FUNCTION = repeat);
		CREATE FUNCTION "odd ""name.".same(a text, b integer) RETURNS boolean LANGUAGE sql IMMUTABLE AS 'SELECT length(a) = b';
		CREATE OPERATOR "odd ""name.".~=~ (LEFTARG = text, RIGHTARG = integer, FUNCTION = "odd ""name.".same);
		CREATE OPERATOR drilling.~~ (LEFTARG = extensions.citext, RIGHTARG = integer, FUNCTION = drilling.tells);`); err != nil {
		t.Fatal(err)
	}
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	if _, err := svc.Admin.Scan(ctx, opal, demo.Second, wire.Change{}); err != nil {
		t.Fatal(err)
	}
	policy := func(name, rule string) error {
		_, err := svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: name, Table: demo.Second + ".drilling.mails",
			Mode: "limit", Rule: rule, For: []string{"user:flint"}}})
		return err
	}
	if err := policy("mails-of-districts", "district IN (attribute('districts'))"); err != nil {
		t.Fatal(err)
	}
	asked := func(by identity.Caller, text string, params ...any) string {
		t.Helper()
		out, err := svc.Gateway.Query(ctx, by, wire.QueryRequest{SQL: text, Params: params})
		if err != nil {
			return fault.Of(err).Code
		}
		return fmt.Sprint(out.Rows)
	}
	ask := func(text string, params ...any) string { t.Helper(); return asked(flint, text, params...) }
	check := func(condition, want string, params ...any) {
		t.Helper()
		if got := ask("SELECT id FROM survey_pg.drilling.mails m WHERE "+condition+" ORDER BY id", params...); got != want {
			t.Errorf("%s gives %s, want %s", condition, got, want)
		}
	}
	for _, c := range [][2]string{
		{"mail = 'flint@north.test'", "[[1]]"}, {"'flint@north.test' = mail", "[[1]]"}, {"mail <> 'flint@north.test'", "[[2]]"}, {"mail > 'd'", "[[1]]"},
		{"mail IN ('chert@north.test', 'SECRET@south.test')", "[[2]]"}, {"mail NOT IN ('chert@north.test')", "[[1]]"}, {"mail NOT IN ('x', NULL)", "[]"},
		{"mail = ANY (ARRAY['chert@north.test'::extensions.citext])", "[[2]]"}, {"mail = ANY ('{chert@north.test}')", "[[2]]"},
		{"mail <> ALL ('{chert@north.test}')", "[[1]]"}, {"mail BETWEEN 'D' AND 'G'", "[[1]]"}, {"mail LIKE 'flint%'", "[[1]]"}, {"mail ~ 'FLINT'", "[[1]]"},
		{"mail IN (SELECT mail FROM drilling.mails)", "[[1] [2]]"}, {"mail >= ALL (SELECT mail FROM drilling.mails WHERE mail IS NOT NULL)", "[[1]]"},
		{"mail = (SELECT max(mail::text) FROM drilling.mails)::extensions.citext", "[[1]]"},
		{"CASE mail WHEN 'FLINT@north.test' THEN true END", "[[1]]"}, {"EXISTS (SELECT 1 FROM drilling.mails o WHERE o.mail = m.mail AND o.id <> m.id)", "[]"},
		// An operator that somebody has made for an enum does not change what those of PostgreSQL mean.
		{"state = 'open'", "[[1] [2] [5]]"}, {"state IN ('open', 'shut')", "[[1] [2] [5]]"}, {"state = ANY ('{open}')", "[[1] [2] [5]]"}, {"state IS NOT DISTINCT FROM 'shut'", "[]"},
		{"district ~=~ 5", "type_mismatch"},
		// A literal takes the type that PostgreSQL gives it.
		{"tags -> 'a' = '1'", "[[1]]"}, {"tags -> ARRAY['a'] = '{1}'", "[[1]]"}, {"tags ? 'b'", "[[2]]"}, {"tags @> 'a=>1'", "[[1]]"}, {"tags ?| '{b,c}'", "[[2]]"},
		{"path <@ 'top.north'", "[[1] [2]]"}, {"path ~ '*.ice'", "[[2]]"}, {"path @ 'ICE*'", "[]"}, {"path @ 'ice'", "[[2]]"}, {"path = 'top.north'", "[[1]]"},
		{"path ~ ANY (ARRAY['top.*{2}']::extensions.lquery[])", "unknown_name"}, {"path || 'x' = 'top.north.x'", "[[1]]"}, {"tags -> id = '1'", "type_mismatch"},
		{"mail IS DISTINCT FROM 'x'", "unsupported"}, {"nullif(mail, 'x') IS NULL", "unsupported"}, {"(id, mail) = (1, 'x')", "unsupported"},
		{"(id, mail) IN ((1, 'x'))", "unsupported"}, {"mail = district", "type_mismatch"}, {"mail = 1", "refused"}, {"mail LIKE 1", "refused"},
		{"district === 'north'", "refused"}, {"district IN ('north', mail)", "type_mismatch"},
	} {
		check(c[0], c[1])
	}
	check("mail = $1", "[[1]]", "FLINT@north.test")
	if got := ask("SELECT count(*), count(DISTINCT mail) FROM survey_pg.drilling.mails a JOIN survey_pg.drilling.mails b USING (mail)"); got != "[[2 2]]" {
		t.Errorf("a join gives %s", got)
	}
	for _, routine := range []string{`"tells(text,text)"`, `"tells(base extensions.citext,base extensions.citext)"`, `"tells(base extensions.citext,integer)"`} {
		if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"EXECUTE"}, Object: demo.Second + ".drilling." + routine,
			Subjects: []string{"user:flint"}}, false); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range [][2]string{ // which would fail on a row that is hidden
		{"district === 'north'", "[[1] [2] [5]]"}, {"mail = 1", "[]"}, {"mail IN (1, 2)", "unsupported"}, {"mail LIKE 1", "[]"}, {"NOT mail LIKE 1", "[[1] [2]]"},
		{"id < 9 AND mail::text === 'Flint@north.test'", "[[1]]"}, {"district === ANY (ARRAY['north'])", "[[1] [2] [5]]"},
		{"district === ANY (SELECT district FROM drilling.mails)", "[[1] [2] [5]]"}, {"mail = ANY (SELECT id FROM drilling.mails)", "[]"},
		{"mail === ANY (SELECT mail FROM drilling.mails)", "[[1] [2]]"}, {"mail === ALL (SELECT mail FROM drilling.mails WHERE id = 1)", "[[1]]"},
		{"mail === ANY (ARRAY[mail])", "[[1] [2]]"}, {"mail === mail", "[[1] [2]]"}, {"(mail === mail) IS NULL", "[[5]]"},
		{"(SELECT bool_or(o.mail === m.mail) FROM drilling.mails o)", "[[1] [2]]"},
	} {
		check(c[0], c[1])
	}
	if _, err := svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"UPDATE", "DELETE"}, Object: demo.Second + ".drilling.mails",
		Subjects: []string{"user:flint"}}, false); err != nil {
		t.Fatal(err)
	}
	for _, c := range [][2]string{
		{"UPDATE survey_pg.drilling.mails SET mail = mail WHERE district === 'north' AND NOT mail = 1 RETURNING id, mail LIKE 1", "[[1 false] [2 false]]"},
		{"UPDATE survey_pg.drilling.mails m SET district = o.district FROM survey_pg.drilling.mails o WHERE o.mail === m.mail AND m.id = 1 RETURNING m.id", "[[1]]"},
		{"DELETE FROM survey_pg.drilling.mails WHERE district === 'south'", "[[removed 0 rows]]"},
		{"WITH n AS (SELECT * FROM survey_pg.drilling.mails) SELECT count(*) FROM n WHERE mail === 'x' OR district === 'y'", "[[0]]"},
		{"SELECT count(*) FILTER (WHERE NOT mail = 1) FROM survey_pg.drilling.mails GROUP BY mail LIKE 1 ORDER BY 1", "[[0] [2]]"},
		{"SELECT a.id FROM survey_pg.drilling.mails a JOIN survey_pg.drilling.mails b ON a.mail === b.mail ORDER BY 1", "[[1] [2]]"},
		{"SELECT a.id FROM survey_pg.drilling.mails a LEFT JOIN survey_pg.drilling.mails b ON b.mail = 1 ORDER BY 1", "[[1] [2] [5]]"},
		{"SELECT 'x'::extensions.citext FROM survey_pg.drilling.mails LIMIT 1", "[[x]]"},
	} {
		if got := ask(c[0]); got != c[1] {
			t.Errorf("%s gives %s, want %s", c[0], got, c[1])
		}
	}
	const hidden = "SELECT NULL::extensions.citext FROM survey_pg.licensing.holders LIMIT 1"
	if _, err := svc.Gateway.Query(ctx, caller(t, svc, "garnet"), wire.QueryRequest{SQL: hidden}); err == nil ||
		!strings.Contains(err.Error(), "there is no type extensions.citext") {
		t.Errorf("who sees no column of a type learns of it: %v", err)
	}
	if _, err := svc.Gateway.Query(ctx, opal, wire.QueryRequest{SQL: "SELECT id FROM survey_pg.drilling.mails WHERE district === 'north'"}); err == nil {
		t.Error("the operator does not fail on a row that is not hidden, so that nothing is proven")
	}
	if got := asked(opal, "SELECT id FROM survey_pg.drilling.mails WHERE district ~=~ 5 ORDER BY id"); got != "[[1] [2] [3] [4] [5]]" {
		t.Errorf("an operator in a schema of an odd name gives %s", got)
	}
	if err := policy("by-state", "state = 'open'"); err != nil {
		t.Errorf("a policy about an enum for which somebody has made an operator: %v", err)
	}
	if err := policy("by-routine", "district === 'north'"); err == nil {
		t.Error("a policy calls a routine that somebody has written")
	}
	if err := policy("by-mail", "mail = 'FLINT@NORTH.TEST'"); err != nil {
		t.Errorf("a policy that compares values of an extension's type: %v", err)
	}
	check("true", "[[1]]")
	check("district === 'north' AND NOT mail = 1", "[[1]]")
}
