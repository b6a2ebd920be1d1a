package source_test

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/source"
)

// ofCollations makes tables in which row 7 is hidden from flint, with texts of several
// collations, some of them wide.
func ofCollations(value string) string {
	return hiding(value) + `
		CREATE COLLATION nd (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
		CREATE TABLE texts (id BIGINT PRIMARY KEY, parent_id BIGINT NOT NULL, a VARCHAR(20) COLLATE "C", p VARCHAR(20) COLLATE "POSIX", d VARCHAR(20), u VARCHAR(20) COLLATE nd,
			n NAME, long TEXT, bytes BYTEA, list TEXT[]);
		ALTER TABLE texts ALTER long SET STORAGE EXTERNAL, ALTER bytes SET STORAGE EXTERNAL, ALTER list SET STORAGE EXTERNAL;
		INSERT INTO texts SELECT id, parent_id, word, word, word, word, word, word, word::bytea, ARRAY[word] FROM secrets;
		CREATE INDEX ON texts (d);
		UPDATE texts SET long = repeat('` + value + ` ', 400000), bytes = repeat('` + value + `', 400000)::bytea, list = ARRAY[repeat('` + value + ` ', 400000)] WHERE id = 7;
		ANALYZE`
}

// onTexts are the ways to hide row 7 of texts.
func onTexts() map[string][]policy.Change {
	rule := func(text string) []policy.Change {
		return []policy.Change{policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "src.s.texts", Rule: text}}
	}
	return map[string][]policy.Change{
		"one value":       rule("parent_id = 1"),
		"a list":          rule("parent_id IN (1, 3, 4, 5, 6)"),
		"an entitlement":  rule("parent_id IN (SELECT id FROM s.parent WHERE open)"),
		"about the row":   rule("EXISTS (SELECT 1 FROM s.parent p WHERE p.id = parent_id AND p.open)"),
		"a list and more": rule("parent_id IN (1, 3, 4) AND id < 1000 AND id > -1 AND a <> 'x'"),
	}
}

// compared are conditions that fail, or take long, on a row of which d is 'yes'. q has the columns
// of texts, with a, p and e, f of collations that PostgreSQL does not know how to compare.
var compared = []string{
	"d = 'yes' AND a < p", "d = 'yes' AND a = p", "d = 'yes' AND a <> p", "d = 'yes' AND a IS DISTINCT FROM p", "d = 'yes' AND a IN ('x', p)", "d = 'yes' AND a = ANY (ARRAY[p, 'x'])",
	"d = 'yes' AND ROW(a, q.id) = ROW(p, q.id)", "d = 'yes' AND ROW(a, q.id) < ROW(p, q.id)", "d = 'yes' AND (a, q.id) IN ((p, 1), ('x', 2))", "d = 'yes' AND a BETWEEN p AND p",
	"d = 'yes' AND NOT (a >= p)", "d = 'yes' AND a = n || '' || p", "d = 'yes' AND e < f", "d = 'yes' AND e = p", "d = 'yes' AND n < p", "d = 'yes' AND mix < mix",
	"d = 'yes' AND u LIKE 'y%'", "d = 'yes' AND e LIKE 'y%' AND e < f", "d = 'yes' AND (SELECT count(*) FROM src.s.free WHERE a < p) > 0",
}

const collated = `(SELECT *, d COLLATE "C" AS e, d COLLATE "POSIX" AS f, a || p AS mix FROM src.s.texts) q`

// TestCollationsTellNothing: two texts of which PostgreSQL does not know how to compare them are
// compared for no row that is hidden. Without the policy, each of the comparisons fails.
func TestCollationsTellNothing(t *testing.T) {
	forms := []string{"SELECT id FROM " + collated + " WHERE id = 7 AND %s", "SELECT count(*) FROM " + collated + " JOIN src.s.free ON free.id = q.id AND %s",
		"SELECT free.id FROM src.s.free LEFT JOIN " + collated + " ON free.id = q.id AND %s", "SELECT id FROM " + collated + " WHERE id = 7 GROUP BY id HAVING bool_or(%s)"}
	made := func(t *testing.T, policies []policy.Change) [2]twin {
		return twinsOf(t, onPostgreSQL, ofCollations, policies)
	}
	bare := made(t, nil)
	fails := map[string]bool{}
	for _, condition := range compared {
		text := fmt.Sprintf(forms[0], condition)
		yes, _ := bare[0].answer(t, text)
		no, _ := bare[1].answer(t, text)
		if fails[condition] = strings.HasPrefix(yes, "error") && yes != no; !fails[condition] && !strings.Contains(condition, "||") && !strings.HasSuffix(condition, "u LIKE 'y%'") {
			t.Errorf("%s fails for no row: %s", condition, yes)
		}
	}
	for name, policies := range onTexts() {
		t.Run(name, func(t *testing.T) {
			pair := made(t, policies)
			for _, form := range forms {
				for _, condition := range compared {
					compareTwins(t, pair, fmt.Sprintf(form, condition), true)
				}
			}
		})
	}
}

var buffers = regexp.MustCompile(`(?:hit|read)=(\d+)`)

// pages is how many pages of tables and indexes the database has read for a statement.
func (w twin) pages(t *testing.T, text string) (n int) {
	t.Helper()
	plan, err := emit.Make(text, nil, w.st, w.set)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	args := source.Bind(plan.Args, source.Facts{Key: testKey, Nonce: testNonce})
	for range 2 { // what is read first fills caches
		lines, err := w.src.Explain(context.Background(), "(ANALYZE, BUFFERS, TIMING OFF, SUMMARY OFF, COSTS OFF) "+plan.SQL, args)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		n = 0
		for _, line := range lines {
			if strings.Contains(line, "Planning:") {
				break
			}
			for _, m := range buffers.FindAllStringSubmatch(line, -1) {
				pages, _ := strconv.Atoi(m[1])
				n = max(n, pages)
			}
		}
	}
	return n
}

// TestWidthsTellNothing: a value of a hidden row is not read, however wide it is. Without the
// policy, each of the conditions reads it.
func TestWidthsTellNothing(t *testing.T) {
	conditions := []string{"long > 'abc'", "long < 'zzz' AND long > 'a'", "long LIKE 'abc%'", "bytes > 'abc'", "'abc' = ANY (list)", "long BETWEEN 'a' AND 'b'",
		"long IN ('a','b','c','d','e','f','g','h','i','j','k','l')", "(long, id) > ('abc', 0)", "NOT long > 'abc'", "long COLLATE \"C\" > 'abc'", "coalesce(long, '') > 'abc'"}
	// Of these the lengths are compared, and the value is not read with the policy or without.
	quick := []string{"long = 'abc'", "long <> 'abc'", "bytes = 'abc'", "long IN ('a', 'b', 'c')", "long IS NOT NULL", "long IS DISTINCT FROM 'abc'"}
	made := func(policies []policy.Change) twin {
		src, m := onPostgreSQL(t, ofCollations("yes"))
		return twin{src, rights(t, m, "flint"), setOf(t, m, policies...)}
	}
	bare := made(nil)
	for _, condition := range conditions {
		if n := bare.pages(t, "SELECT id FROM src.s.texts WHERE id = 7 AND "+condition); n < 100 {
			t.Errorf("%s reads %d pages without the policy", condition, n)
		}
	}
	for name, policies := range onTexts() {
		w := made(policies)
		for _, condition := range slices.Concat(conditions, quick) {
			for _, form := range []string{"SELECT id FROM src.s.texts WHERE id = 7 AND %s", "SELECT id FROM (SELECT * FROM src.s.texts) q WHERE id = 7 AND %s",
				"SELECT q.id FROM src.s.texts q JOIN src.s.free ON free.id = q.id WHERE q.id = 7 AND %s"} {
				if strings.Contains(form, "JOIN") {
					condition = strings.ReplaceAll(condition, "id", "q.id")
				}
				if n := w.pages(t, fmt.Sprintf(form, condition)); n > 50 {
					t.Errorf("%s: %s reads %d pages", name, fmt.Sprintf(form, condition), n)
				}
			}
		}
		// Wide values that are joined by.
		if n := w.pages(t, "SELECT q.id FROM src.s.texts q JOIN src.s.secrets o ON o.word = q.long WHERE o.id < 5"); n > 100 {
			t.Errorf("%s: a join by wide values reads %d pages", name, n)
		}
	}
}

// TestPoliciesComeFirst: PostgreSQL works the policy's condition out before the reader's, where
// both cost the same or the policy's less.
func TestPoliciesComeFirst(t *testing.T) {
	src, m := onPostgreSQL(t, ofCollations("yes"))
	for rule, wants := range map[string]string{
		"parent_id = 3":                            "Filter: (((a)::text > 'abc'::text) AND (parent_id = 3))", // what docs/security.md excepts
		"parent_id IN (1, 3)":                      "Filter: ((parent_id = ANY ('{1,3}'::bigint[])) AND ",
		"parent_id <> 2":                           "Filter: ((parent_id <> 2) AND ",
		"parent_id IN (SELECT id FROM src.s.free)": "Filter: ((hashed SubPlan 1) AND ",
		"parent_id <> 2 AND id < 500":              "Filter: ((parent_id <> 2) AND (id < 500) AND ",
	} {
		set := setOf(t, m, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "src.s.texts", Rule: rule})
		conditions := []string{"a > 'abc'", "d LIKE 'ab%'", "a > 'abc' AND d < 'x'", "n = 'x'", "long <> 'x'"}
		if strings.HasPrefix(wants, "Filter: (((a)") {
			conditions = conditions[:1]
		}
		for _, condition := range conditions {
			plan, err := emit.Make("SELECT count(*) FROM src.s.texts WHERE "+condition, nil, rights(t, m, "flint"), set)
			if err != nil {
				t.Fatal(err)
			}
			lines, err := src.Explain(context.Background(), plan.SQL, source.Bind(plan.Args, source.Facts{}))
			if err != nil {
				t.Fatal(err)
			}
			if text := strings.Join(lines, "\n"); !strings.Contains(text, wants) && !strings.Contains(text, "Index Cond") {
				t.Errorf("%s with %s:\n%s\n%s", rule, condition, plan.SQL, text)
			}
			policies := strings.TrimSuffix(strings.TrimPrefix(wants, "Filter: ("), " AND ")
			for _, shape := range []string{
				"SELECT count(*) FROM src.s.texts t JOIN src.s.texts u ON t.id = u.parent_id AND t.%s",
				"SELECT count(*) FROM src.s.texts t, src.s.texts u WHERE t.id = u.parent_id AND t.%[1]s AND u.%[1]s",
				"SELECT count(*) FROM src.s.texts t LEFT JOIN src.s.texts u ON t.id = u.parent_id AND u.%[1]s WHERE t.%[1]s",
				"SELECT count(*) FROM (SELECT * FROM src.s.texts x) t WHERE t.%s",
				"WITH t AS (SELECT * FROM src.s.texts) SELECT count(*) FROM t WHERE t.%s",
				"SELECT count(*) FROM src.s.texts t WHERE EXISTS (SELECT 1 FROM src.s.texts u WHERE u.parent_id = t.id AND u.%s)",
			} {
				sql := fmt.Sprintf(shape, strings.ReplaceAll(strings.ReplaceAll(condition, " AND d", " AND t.d"), "%", "%%"))
				if strings.Contains(condition, " AND ") && strings.Contains(shape, "u.%") {
					continue // it names one table
				}
				plan, err := emit.Make(strings.ReplaceAll(sql, "%%", "%"), nil, rights(t, m, "flint"), set)
				if err != nil {
					t.Fatal(sql, err)
				}
				lines, err := src.Explain(context.Background(), plan.SQL, source.Bind(plan.Args, source.Facts{}))
				if err != nil {
					t.Fatal(err)
				}
				for _, line := range lines {
					if at := strings.Index(line, policies); at >= 0 && strings.Trim(line[:at], " (") != "Filter:" {
						t.Errorf("%s in %s:\n%s", rule, sql, line)
					}
				}
			}
		}
	}
}

// throughList is a line of a plan in which an array that a sub-query gives is compared with each row.
var throughList = regexp.MustCompile(`Filter:.*= ANY \((\$|\(InitPlan)`)

// TestListsOfPoliciesAreLookedUp: a row is looked up in the list that a policy reads, in an index where there is
// one, and the list is not gone through for each row. With 20,000 rows and as many entries that would be 200 million
// comparisons.
func TestListsOfPoliciesAreLookedUp(t *testing.T) {
	src, m := onPostgreSQL(t, `CREATE TABLE readings (id BIGINT PRIMARY KEY, plain BIGINT NOT NULL, led BIGINT NOT NULL, partial BIGINT NOT NULL, second BIGINT NOT NULL, ranged BIGINT NOT NULL);
		INSERT INTO readings SELECT i, i, i, i, i, i FROM generate_series(1, 20000) i;
		CREATE INDEX ON readings (led, second);
		CREATE INDEX ON readings (partial) WHERE partial > 7;
		CREATE INDEX ON readings USING brin (ranged);
		CREATE TABLE allowed (who TEXT NOT NULL, no BIGINT);
		INSERT INTO allowed SELECT 'flint', i FROM generate_series(10001, 30000) i;
		ANALYZE`)
	for column, wants := range map[string]string{
		"id": "Index Cond: (id = ANY", "led": "Index Cond: (led = ANY",
		"plain": "Filter: (hashed SubPlan", "partial": "Filter: (hashed SubPlan", "second": "Filter: (hashed SubPlan", "ranged": "Filter: (hashed SubPlan",
	} {
		for rule, rows := range map[string]int{
			column + " IN (SELECT no FROM src.s.allowed WHERE who = CURRENT_USER)":                         10_000,
			column + " IN (SELECT no FROM src.s.allowed WHERE who = 'nobody')":                             0,
			column + " IN (SELECT CASE WHEN no < 20000 THEN no END FROM src.s.allowed)":                    9_999,
			"NOT " + column + " IN (SELECT no FROM src.s.allowed)":                                         10_000,
			column + " NOT IN (SELECT CASE WHEN no < 20000 THEN no END FROM src.s.allowed)":                0,
			"(" + column + " IN (SELECT no FROM src.s.allowed)) IS NOT TRUE AND id > 5":                    9_995,
			"CASE WHEN id < 5 THEN FALSE ELSE " + column + " IN (SELECT no FROM src.s.allowed) END":        10_000,
			column + " IN (SELECT no FROM src.s.allowed) AND id IN (SELECT no - 100 FROM src.s.allowed)":   10_000,
			column + " = ANY (ARRAY[1, 2, 3]) OR " + column + " IN (SELECT no FROM src.s.allowed LIMIT 7)": 10,
		} {
			set := setOf(t, m, policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "r"}, Table: "src.s.readings", Rule: rule})
			w := twin{src, rights(t, m, "flint"), set}
			if got := w.says(t, "SELECT count(*) FROM src.s.readings"); got != fmt.Sprintf("[%d]", rows) {
				t.Errorf("%s: %v rows, want %d", rule, got, rows)
			}
			plan, err := emit.Make("SELECT count(*) FROM src.s.readings", nil, w.st, set)
			if err != nil {
				t.Fatal(err)
			}
			lines, err := src.Explain(t.Context(), plan.SQL, source.Bind(plan.Args, source.Facts{}))
			text := strings.Join(lines, "\n")
			if err != nil || strings.HasSuffix(rule, "CURRENT_USER)") && !strings.Contains(text, wants) {
				t.Errorf("%s: want %s in\n%s\n%v", rule, wants, text, err)
			}
			if throughList.MatchString(text) {
				t.Errorf("%s: a list is gone through for each row:\n%s", rule, text)
			}
		}
	}
}
