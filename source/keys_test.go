package source_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
)

// holdings is a table whose key says who has a row, with one more row of somebody else.
func holdings(more string) string {
	return `CREATE TABLE held (tenant VARCHAR(10), no INTEGER, v TEXT, PRIMARY KEY (tenant, no));
		INSERT INTO held VALUES ('north', 1, 'one'), ('north', 2, 'two'), ('south', 9, 'nine');
		CREATE TABLE loose (tenant VARCHAR(10), no INTEGER PRIMARY KEY, v TEXT);
		CREATE TABLE booked (id INTEGER PRIMARY KEY, tenant VARCHAR(10), slot INTEGER, active BOOLEAN);
		CREATE UNIQUE INDEX ON booked (slot) WHERE active;
		CREATE TABLE twice (tenant VARCHAR(10), no INTEGER, v TEXT UNIQUE, PRIMARY KEY (tenant, no));` + more
}

// upsert is what an INSERT does to the table: what it gives back, and what is there then.
// Whether a key is taken or a policy does not allow the row is one answer.
func upsert(t *testing.T, src source.Source, plan *emit.Plan) string {
	t.Helper()
	errBarred := errors.New("barred")
	columns := plan.Columns
	if plan.Checked {
		columns = append(slices.Clone(columns), query.Column{Type: query.Boolean})
	}
	var given []string
	changed := int64(0)
	err := src.Write(context.Background(), source.Request{SQL: plan.SQL, Args: source.Bind(plan.Args, source.Facts{Start: time.Unix(2, 0)}), Columns: columns}, source.Values(columns, func(row []any) error {
		if plan.Checked {
			if row[len(row)-1] != true {
				return errBarred
			}
			row = row[:len(row)-1]
		}
		given = append(given, strings.Trim(fmt.Sprint(row), "[]"))
		return nil
	}), func(n int64) error { changed = n; return nil })
	var constraint *source.Constraint
	if errors.Is(err, errBarred) || errors.As(err, &constraint) && constraint.Kind != "NOT NULL" {
		return "barred"
	}
	if err != nil {
		return err.Error()
	}
	slices.Sort(given)
	return fmt.Sprintf("%d: %s", changed, strings.Join(given, "; "))
}

// TestKeysThatDecide: where row policies do no more than compare the columns of the primary
// key, keys can be set by hand and ON CONFLICT be used, and nothing tells of hidden rows.
func TestKeysThatDecide(t *testing.T) {
	own := func(table string) policy.Change {
		return policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: table}, Table: "src.s." + table, Rule: "tenant IN ('north', 'coast')"}
	}
	open := func(more string, policies ...policy.Change) (source.Source, func(text string) string) {
		src, m := onPostgreSQL(t, holdings(more))
		set := setOf(t, m, policies...)
		st := rights(t, m, "flint")
		return src, func(text string) string {
			plan, err := emit.Make(text, nil, st, set)
			if err != nil {
				return err.Error()
			}
			return upsert(t, src, plan)
		}
	}
	policies := []policy.Change{own("held"), own("loose"), own("twice"), own("booked")}

	// What they do where all is visible.
	src, do := open("", policies...)
	for _, c := range []struct{ text, want string }{
		{"INSERT INTO src.s.held VALUES ('north', 3, 'three') RETURNING no, v", "1: 3 three"},
		{"INSERT INTO src.s.held VALUES ('north', 1, 'again')", "barred"},
		{"INSERT INTO src.s.held VALUES ('south', 4, 'four')", "barred"},
		{"INSERT INTO src.s.held VALUES ('north', 1, 'uno'), ('coast', 5, 'five') ON CONFLICT (tenant, no) DO UPDATE SET v = held.v || excluded.v RETURNING tenant, no, v", "2: coast 5 five; north 1 oneuno"},
		{"INSERT INTO src.s.held VALUES ('north', 1, 'x'), ('north', 7, 'seven') ON CONFLICT (no, tenant) DO NOTHING RETURNING no", "1: 7"},
		{"INSERT INTO src.s.held SELECT tenant, no + 1, upper(v) FROM src.s.held WHERE no = 2 ON CONFLICT (tenant, no) DO UPDATE SET v = excluded.v WHERE held.v <> 'x' RETURNING no, v", "1: 3 TWO"},
		{"WITH x AS (SELECT 'north' AS tenant, 8 AS no) INSERT INTO src.s.held (tenant, no) SELECT tenant, no FROM x ON CONFLICT (tenant, no) DO NOTHING", "1: "},
		{"INSERT INTO src.s.held VALUES ('north', 2, 'x'), ('south', 4, 'x') ON CONFLICT (tenant, no) DO NOTHING", "barred"},
		{"INSERT INTO src.s.held VALUES (NULL, 2, 'x') ON CONFLICT (tenant, no) DO NOTHING", "barred"},
		// Not where the key says nothing of who has a row, or another key is set.
		{"INSERT INTO src.s.loose VALUES ('north', 1, 'x')", "column no is part of a key"},
		{"INSERT INTO src.s.loose VALUES ('north', 1, 'x') ON CONFLICT (no) DO NOTHING", "ON CONFLICT cannot be used"},
		{"INSERT INTO src.s.twice VALUES ('north', 1, 'x')", "column v is part of a key"},
		{"INSERT INTO src.s.twice (tenant, no) VALUES ('north', 1) ON CONFLICT (tenant, no) DO UPDATE SET v = 'x'", "column v is part of a key"},
		{"INSERT INTO src.s.held VALUES ('north', 1, 'x') ON CONFLICT DO NOTHING", "ON CONFLICT cannot be used"},
		{"INSERT INTO src.s.held VALUES ('north', 1, 'x') ON CONFLICT (tenant, no) DO UPDATE SET no = 12", "column no is part of a key"},
		{"INSERT INTO src.s.held VALUES ('north', 1, DEFAULT) ON CONFLICT (tenant, no) DO NOTHING", "DEFAULT beside ON CONFLICT"},
		{"UPDATE src.s.held SET no = 9 WHERE no = 1", "column no is part of a key"},
		{"UPDATE src.s.booked SET active = TRUE WHERE id = 1", "column active is part of a key"},
		{"INSERT INTO src.s.held (no, v) VALUES (1, 'x')", "column no is part of a key"},
	} {
		if got := do(c.text); got != c.want && !(strings.Contains(c.want, " ") && strings.Contains(got, c.want)) {
			t.Errorf("%s\ncomes to %s, want %s", c.text, got, c.want)
		}
	}
	src.Close()

	// A row that is seen and may not be changed is not taken over by its key.
	writes := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "loose"}, Table: "src.s.loose", Rule: "tenant = 'north'", Commands: policy.Write}
	_, do = open("INSERT INTO loose VALUES ('south', 1, 'theirs')", writes)
	for _, action := range []string{"DO UPDATE SET tenant = 'north'", "DO UPDATE SET v = 'x'", "DO NOTHING"} {
		if got := do("INSERT INTO src.s.loose VALUES ('north', 1, 'mine') ON CONFLICT (no) " + action); !strings.Contains(got, "ON CONFLICT cannot be used") {
			t.Errorf("%s comes to %s", action, got)
		}
	}

	// The same, whatever else there is of others.
	const hidden = "INSERT INTO held VALUES ('south', 4, 'hidden'), ('South', 1, 'hidden'), ('west', 1, 'hidden')"
	rules := map[string]string{
		"a list":     "tenant IN ('north', 'coast')",
		"a range":    "tenant >= 'n' AND tenant < 'o' AND no < 100",
		"a negation": "NOT (tenant = 'south' OR tenant = 'South' OR tenant = 'west')",
		"a function": "lower(tenant) = 'north'",
		"a pattern":  "tenant LIKE 'n%'",
		"another":    "v <> 'hidden' AND tenant <> 'south' AND tenant <> 'South'",
		"to read":    "tenant IN ('north', 'coast')",
		"to write":   "tenant IN ('north', 'coast')",
	}
	commands := map[string]string{"to read": "read", "to write": "write"}
	for name, rule := range rules {
		t.Run(name, func(t *testing.T) {
			p := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "held"}, Table: "src.s.held", Rule: rule}
			p.Commands = policy.Commands(commands[name])
			_, there := open(hidden, p)
			_, absent := open("", p)
			for _, who := range []string{"north", "south", "South", "west", "NORTH"} {
				for no := range 5 {
					for _, text := range []string{
						"INSERT INTO src.s.held VALUES ('%s', %d, 'x') RETURNING tenant, no, v",
						"INSERT INTO src.s.held VALUES ('%s', %d, 'x') ON CONFLICT (tenant, no) DO NOTHING RETURNING no",
						"INSERT INTO src.s.held VALUES ('%s', %d, 'x') ON CONFLICT (tenant, no) DO UPDATE SET v = held.v || 'y' RETURNING v",
						"INSERT INTO src.s.held SELECT '%s', %d, 'x' ON CONFLICT (tenant, no) DO UPDATE SET v = (1 / (length(held.v) - 6))::text RETURNING v",
					} {
						text := fmt.Sprintf(text, who, no)
						if a, b := there(text), absent(text); a != b {
							t.Errorf("%s\ntells of a hidden row: %s, or %s", text, a, b)
						}
					}
				}
			}
		})
	}
}

// TestKeysThatAreMade: a column of which a generated column of a unique key is worked out is
// part of that key, and so is a key that ON CONFLICT changes for the rows that lead to it.
func TestKeysThatAreMade(t *testing.T) {
	engines(t, func(t *testing.T, make maker) {
		src, m := make(t, `CREATE TABLE people (id INTEGER PRIMARY KEY, mail TEXT, team TEXT, low TEXT GENERATED ALWAYS AS (lower(mail)) STORED UNIQUE);
			INSERT INTO people (id, mail, team) VALUES (1, 'ann@x', 'north'), (2, 'BOB@x', 'south');
			CREATE TABLE p (id INTEGER PRIMARY KEY, v TEXT);
			CREATE TABLE c (id INTEGER PRIMARY KEY, p_id INTEGER REFERENCES p, team TEXT);
			INSERT INTO p VALUES (1, 'a'), (2, 'b'); INSERT INTO c VALUES (1, 2, 'south')`)
		set := setOf(t, m, policy.PutRelationship{From: []string{"src.s.c.p_id"}, To: []string{"src.s.p.id"}},
			policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "people"}, Table: "src.s.people", Rule: "team = 'north'"},
			policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "c"}, Table: "src.s.c", Rule: "team = 'north'"})
		for text, wants := range map[string]string{
			"UPDATE src.s.people SET mail = 'bob@x' WHERE id = 1":                                       "column mail is part of a key",
			"INSERT INTO src.s.people (mail) VALUES ('bob@x')":                                          "column mail is part of a key",
			"UPDATE src.s.people SET team = 'north' WHERE id = 1":                                       "1: ",
			"UPDATE src.s.p SET id = 77 WHERE id = 2":                                                   "may be hidden from you",
			"INSERT INTO src.s.p (id, v) VALUES (2, 'x') ON CONFLICT (id) DO UPDATE SET id = 77":        "may be hidden from you",
			"INSERT INTO src.s.p (id, v) VALUES (1, 'x') ON CONFLICT (id) DO UPDATE SET v = excluded.v": "1: ",
		} {
			plan, err := emit.Make(text, nil, rights(t, m, "flint"), set)
			got := ""
			if err != nil {
				got = err.Error()
			} else {
				got = upsert(t, src, plan)
			}
			if !strings.Contains(got, wants) {
				t.Errorf("%s\ncomes to %s, want %s", text, got, wants)
			}
		}
	})
}

// TestPoliciesOnPatternsFoldCase: a policy on a pattern is about names in upper case, too.
func TestPoliciesOnPatternsFoldCase(t *testing.T) {
	engines(t, func(t *testing.T, make maker) {
		src, m := make(t, `CREATE TABLE cards (id INTEGER PRIMARY KEY, "Card_Number" TEXT, account_number TEXT);
			INSERT INTO cards VALUES (1, '4711', '0815'); CREATE TABLE "Card_Log" (id INTEGER PRIMARY KEY)`)
		set := setOf(t, m, policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "numbers"}, Columns: []string{"src.s.cards.*_number"}, Treat: "suppress"})
		plan, err := emit.Make(`SELECT id, "Card_Number", account_number FROM src.s.cards`, nil, rights(t, m, "flint"), set)
		if err != nil {
			t.Fatal(err)
		}
		if rows, err := collect(src, plan.SQL, source.Bind(plan.Args, source.Facts{}), plan.Columns); err != nil || len(rows) != 1 || strings.Contains(rows[0], "4711") {
			t.Errorf("%v, %v", rows, err)
		}
		closed := setOf(t, m, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "none"}, Table: "src.s.card*", Rule: "false"})
		if o, err := m.Lookup(`src.s."Card_Log"`); err != nil || len(closed.Rows(m, o.ID)) != 1 {
			t.Errorf("%v", err)
		}
	})
}

// TestKeysOfTablesThatAreNotSeen: a foreign key to, or from, a table that the session may not read
// tells no more of its rows than one to rows that policies hide, and no refusal names the table.
func TestKeysOfTablesThatAreNotSeen(t *testing.T) {
	engines(t, func(t *testing.T, make maker) {
		src, m := make(t, `CREATE TABLE secretpar (id INTEGER PRIMARY KEY); INSERT INTO secretpar VALUES (1), (42);
			CREATE TABLE own (id INTEGER PRIMARY KEY, par INTEGER REFERENCES secretpar, made INTEGER DEFAULT 42 REFERENCES secretpar);
			INSERT INTO own VALUES (1, 1, NULL);
			CREATE TABLE open (id INTEGER PRIMARY KEY); INSERT INTO open VALUES (1), (5);
			CREATE TABLE secretkid (id INTEGER PRIMARY KEY, open_id INTEGER REFERENCES open); INSERT INTO secretkid VALUES (1, 1)`)
		m, err := m.Apply(time.Unix(1, 0), access.AddSubject{Subject: "user:ann"}, access.AddGrant{Privilege: "USAGE", Object: "src", Subject: "user:ann"},
			access.AddGrant{Privilege: "USAGE", Object: "src.s", Subject: "user:ann"}, access.AddGrant{Privilege: "ALL", Object: "src.s.own", Subject: "user:ann"},
			access.AddGrant{Privilege: "ALL", Object: "src.s.open", Subject: "user:ann"})
		if err != nil {
			t.Fatal(err)
		}
		set := setOf(t, m, policy.PutRelationship{From: []string{"src.s.own.par"}, To: []string{"src.s.secretpar.id"}},
			policy.PutRelationship{From: []string{"src.s.own.made"}, To: []string{"src.s.secretpar.id"}},
			policy.PutRelationship{From: []string{"src.s.secretkid.open_id"}, To: []string{"src.s.open.id"}})
		answer := func(text string) string {
			plan, err := emit.Make(text, nil, rights(t, m, "ann"), set)
			if err != nil {
				return err.Error()
			}
			return upsert(t, src, plan)
		}
		for _, pair := range [][2]string{
			{"INSERT INTO src.s.own (id, par, made) VALUES (2, 1, NULL)", "INSERT INTO src.s.own (id, par, made) VALUES (2, 99, NULL)"},
			{"UPDATE src.s.own SET par = 42 WHERE id = 1", "UPDATE src.s.own SET par = 43 WHERE id = 1"},
			{"INSERT INTO src.s.own (id) VALUES (3)", "INSERT INTO src.s.own (id, made) VALUES (3, 99)"},
			{"DELETE FROM src.s.open WHERE id = 1", "DELETE FROM src.s.open WHERE id = 5"},
			{"UPDATE src.s.open SET id = 9 WHERE id = 1", "UPDATE src.s.open SET id = 9 WHERE id = 5"},
		} {
			there, absent := answer(pair[0]), answer(pair[1])
			if there != absent || strings.Contains(there, "1: ") || strings.Contains(there, "secretkid") {
				t.Errorf("%s comes to %s\n%s comes to %s", pair[0], there, pair[1], absent)
			}
		}
		if got := answer("INSERT INTO src.s.own (id, par, made) VALUES (4, NULL, NULL)"); got != "1: " {
			t.Errorf("a row that leads nowhere: %s", got)
		}
	})
}
