package source_test

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/source/postgres"
)

// Reports are what a reporting tool asks: joins of up to six of eight tables, 3 million
// rows in the largest, with dates and amounts. Each is asked as governed, and as it
// would be written by hand: the same statement, with the policies' conditions put in by
// who writes it. {x} stands for the table x, $1 for reportPoint.

// reportTables makes the tables, on both engines, from one series of numbers.
func reportTables(series func(n int) string, mod func(x string, n int) string, day func(x string) string, text func(parts ...string) string) string {
	district := func(x string) string {
		return "CASE " + mod(x, 8) + " WHEN 0 THEN 'north' WHEN 1 THEN 'coast' WHEN 2 THEN 'basin' WHEN 3 THEN 'highland' WHEN 4 THEN 'delta' WHEN 5 THEN 'plain' WHEN 6 THEN 'ridge' ELSE 'fjord' END"
	}
	return `
		CREATE TABLE districts (id BIGINT PRIMARY KEY, name TEXT NOT NULL, zone TEXT NOT NULL);
		INSERT INTO districts SELECT i, ` + district("i") + `, CASE WHEN i < 4 THEN 'west' ELSE 'east' END FROM ` + series(8) + `;
		CREATE TABLE firms (id BIGINT PRIMARY KEY, name TEXT NOT NULL, phone TEXT NOT NULL, kind TEXT NOT NULL, balance DOUBLE PRECISION NOT NULL);
		INSERT INTO firms SELECT i, ` + text("'firm '", "i") + `, ` + text("'+44 '", "i * 7919") + `, CASE ` + mod("i", 5) + ` WHEN 0 THEN 'drilling' WHEN 1 THEN 'survey' WHEN 2 THEN 'assay' ELSE 'haulage' END, ` + mod("i * 37", 100000) + ` / 10.0 FROM ` + series(5000) + `;
		CREATE TABLE sites (id BIGINT PRIMARY KEY, district TEXT NOT NULL, firm_id BIGINT NOT NULL, opened DATE NOT NULL, status TEXT NOT NULL);
		INSERT INTO sites SELECT i, ` + district("i") + `, ` + mod("i * 31", 5000) + `, ` + day(mod("i", 2500)) + `, CASE ` + mod("i", 3) + ` WHEN 0 THEN 'open' WHEN 1 THEN 'closed' ELSE 'planned' END FROM ` + series(50_000) + `;
		CREATE TABLE crews (id BIGINT PRIMARY KEY, name TEXT NOT NULL, lead TEXT NOT NULL);
		INSERT INTO crews SELECT i, ` + text("'crew '", "i") + `, ` + text("'lead '", mod("i", 200)) + ` FROM ` + series(2000) + `;
		CREATE TABLE shifts (id BIGINT PRIMARY KEY, site_id BIGINT NOT NULL, crew_id BIGINT NOT NULL, day DATE NOT NULL, hours DOUBLE PRECISION NOT NULL, cost DOUBLE PRECISION NOT NULL);
		INSERT INTO shifts SELECT i, ` + mod("i * 17", 50_000) + `, ` + mod("i * 13", 2000) + `, ` + day(mod("i", 2500)) + `, 4 + ` + mod("i", 9) + `, ` + mod("i * 29", 90000) + ` / 100.0 FROM ` + series(400_000) + `;
		CREATE TABLE samples (id BIGINT PRIMARY KEY, site_id BIGINT NOT NULL, district TEXT NOT NULL, taken DATE NOT NULL, mass DOUBLE PRECISION NOT NULL, label TEXT NOT NULL);
		INSERT INTO samples SELECT i, ` + mod("i", 50_000) + `, ` + district("i") + `, ` + day(mod("i * 7", 2500)) + `, ` + mod("i * 11", 5000) + ` / 10.0, ` + text("CASE "+mod("i", 4)+" WHEN 0 THEN 'core ' WHEN 1 THEN 'chip ' WHEN 2 THEN 'mud ' ELSE 'soil ' END", "i") + ` FROM ` + series(800_000) + `;
		CREATE TABLE elements (code TEXT PRIMARY KEY, name TEXT NOT NULL, price DOUBLE PRECISION NOT NULL);
		INSERT INTO elements VALUES ('Au', 'gold', 60.5), ('Ag', 'silver', 0.8), ('Cu', 'copper', 0.009), ('Fe', 'iron', 0.0001), ('Zn', 'zinc', 0.0025);
		CREATE TABLE assays (id BIGINT PRIMARY KEY, sample_id BIGINT NOT NULL, district TEXT NOT NULL, element TEXT NOT NULL, done DATE NOT NULL, ppm DOUBLE PRECISION NOT NULL, price DOUBLE PRECISION NOT NULL, discount DOUBLE PRECISION NOT NULL);
		INSERT INTO assays SELECT i, ` + mod("i", 800_000) + `, ` + district("i") + `, CASE ` + mod("i / 3", 5) + ` WHEN 0 THEN 'Au' WHEN 1 THEN 'Ag' WHEN 2 THEN 'Cu' WHEN 3 THEN 'Fe' ELSE 'Zn' END, ` + day(mod("i * 3", 2500)) + `, ` + mod("i * 23", 1000000) + ` / 100.0, ` + mod("i * 41", 50000) + ` / 100.0, ` + mod("i", 11) + ` / 100.0 FROM ` + series(3_000_000) + `;
		CREATE INDEX sites_firm ON sites (firm_id); CREATE INDEX shifts_site ON shifts (site_id); CREATE INDEX shifts_day ON shifts (day);
		CREATE INDEX samples_site ON samples (site_id); CREATE INDEX samples_district ON samples (district, taken);
		CREATE INDEX assays_sample ON assays (sample_id); CREATE INDEX assays_district ON assays (district, done); CREATE INDEX assays_done ON assays (done);`
}

// reportRules are the conditions that flint's policies come to: of an attribute, of a
// group, and of following a relationship. Columns have the values that flint sees.
var reportRules = map[string]string{
	"assays":  "SELECT id, sample_id, district, element, done, ppm, price, discount FROM s.assays WHERE district IN ('coast', 'north')",
	"samples": "SELECT id, site_id, district, taken, mass, label FROM s.samples WHERE district IN ('coast', 'north')",
	"sites":   "SELECT id, district, firm_id, opened, status FROM s.sites WHERE district IN ('coast', 'north', 'basin')",
	"shifts":  "SELECT x.id, x.site_id, x.crew_id, x.day, x.hours, x.cost FROM s.shifts x JOIN s.sites y ON y.id = x.site_id WHERE y.district IN ('coast', 'north', 'basin')",
	"firms":   "SELECT id, name, kind, balance, NULL AS phone FROM s.firms",
}

const reportPoint = int64(4712)

// reports are the questions. Conditions are plain but where the name says otherwise.
var reports = []struct{ name, text string }{
	{"sums by element and district", "SELECT element, district, sum(ppm) AS a, sum(price * (1 - discount)) AS b, avg(price) AS c, count(*) AS n FROM {assays} WHERE done <= '2025-09-02' GROUP BY element, district ORDER BY element, district"},
	{"revenue of a quarter", "SELECT sum(price * discount) AS a FROM {assays} WHERE done >= '2023-01-01' AND done < '2024-01-01' AND discount BETWEEN 0.05 AND 0.07 AND ppm < 2400"},
	{"one sample, point", "SELECT element, ppm FROM {assays} WHERE sample_id = $1 ORDER BY element"},
	{"one day", "SELECT id, ppm FROM {assays} WHERE done = '2024-05-01' ORDER BY id LIMIT 100"},
	{"samples and assays of a month", "SELECT s.label, a.element, a.ppm FROM {samples} s JOIN {assays} a ON a.sample_id = s.id WHERE s.taken BETWEEN '2024-03-01' AND '2024-03-07' AND a.element = 'Au' ORDER BY a.ppm DESC, a.id LIMIT 20"},
	{"sites of firms of a kind", "SELECT f.kind, s.district, count(*) AS n FROM {sites} s JOIN {firms} f ON f.id = s.firm_id WHERE s.status = 'open' GROUP BY f.kind, s.district ORDER BY f.kind, s.district"},
	{"costs by crew", "SELECT c.lead, sum(x.cost) AS cost, sum(x.hours) AS hours FROM {shifts} x JOIN {crews} c ON c.id = x.crew_id WHERE x.day >= '2024-01-01' GROUP BY c.lead ORDER BY cost DESC, c.lead LIMIT 10"},
	{"four tables", "SELECT f.kind, a.element, sum(a.price * (1 - a.discount)) AS revenue FROM {firms} f JOIN {sites} s ON s.firm_id = f.id JOIN {samples} m ON m.site_id = s.id JOIN {assays} a ON a.sample_id = m.id WHERE a.done BETWEEN '2024-01-01' AND '2024-12-31' GROUP BY f.kind, a.element ORDER BY f.kind, a.element"},
	{"five tables", "SELECT d.zone, e.name, count(*) AS n, sum(a.ppm * e.price) AS value FROM {districts} d JOIN {sites} s ON s.district = d.name JOIN {samples} m ON m.site_id = s.id JOIN {assays} a ON a.sample_id = m.id JOIN {elements} e ON e.code = a.element WHERE d.zone = 'west' AND m.taken < '2021-01-01' GROUP BY d.zone, e.name ORDER BY d.zone, e.name"},
	{"best by element, computed condition", "SELECT m.label, a.ppm FROM {assays} a JOIN {samples} m ON m.id = a.sample_id WHERE a.element = 'Au' AND a.ppm = (SELECT max(b.ppm) FROM {assays} b WHERE b.element = 'Au') ORDER BY m.label LIMIT 10"},
	{"sites with gold, sub-query", "SELECT count(*) AS n FROM {sites} s WHERE s.status = 'closed' AND EXISTS (SELECT 1 FROM {samples} m WHERE m.site_id = s.id AND m.mass > 499)"},
	{"firms without shifts, sub-query", "SELECT count(*) AS n FROM {firms} f WHERE NOT EXISTS (SELECT 1 FROM {sites} s WHERE s.firm_id = f.id AND s.status = 'planned')"},
	{"names like", "SELECT count(*) AS n FROM {samples} WHERE label LIKE 'core 1%'"},
	{"names that contain, computed condition", "SELECT count(*) AS n FROM {samples} WHERE label LIKE '%77%'"},
	{"shares by case", "SELECT district, sum(CASE WHEN element = 'Au' THEN price ELSE 0 END) AS a, sum(CASE WHEN ppm > 5000 THEN 1 ELSE 0 END) AS b FROM {assays} GROUP BY district ORDER BY district"},
	{"outer join and count", "SELECT n, count(*) AS sites FROM (SELECT s.id, count(m.id) AS n FROM {sites} s LEFT JOIN {samples} m ON m.site_id = s.id AND m.mass > 400 GROUP BY s.id) q GROUP BY n ORDER BY n"},
	{"derived table", "SELECT q.district, max(q.total) AS m FROM (SELECT district, element, sum(ppm) AS total FROM {assays} GROUP BY district, element) q GROUP BY q.district ORDER BY q.district"},
	{"two ways in", "SELECT sum(price) AS a FROM {assays} WHERE (element = 'Au' AND ppm > 9000 AND discount < 0.05) OR (element = 'Cu' AND ppm BETWEEN 100 AND 200)"},
	{"window", "SELECT element, done, running FROM (SELECT element, done, sum(price) OVER (PARTITION BY element ORDER BY done, id) AS running, row_number() OVER (PARTITION BY element ORDER BY done, id) AS n FROM {assays} WHERE done < '2020-06-01') q WHERE n <= 3 ORDER BY element, done, running"},
	{"having", "SELECT site_id, count(*) AS n, sum(mass) AS m FROM {samples} WHERE taken >= '2022-01-01' GROUP BY site_id HAVING count(*) > 7 ORDER BY m DESC, site_id LIMIT 20"},
	{"with, read twice", "WITH r AS (SELECT site_id, sum(cost) AS c FROM {shifts} WHERE day >= '2024-06-01' GROUP BY site_id) SELECT r.site_id, r.c FROM r WHERE r.c = (SELECT max(c) FROM r) ORDER BY r.site_id"},
	{"shifts of a site, point", "SELECT x.day, x.hours, c.name FROM {shifts} x JOIN {crews} c ON c.id = x.crew_id WHERE x.site_id = $1 ORDER BY x.day, x.id"},
	{"arithmetic in a condition, computed condition", "SELECT count(*) AS n FROM {assays} WHERE price * (1 - discount) > 480 AND done >= '2024-01-01'"},
	{"six tables", "SELECT d.zone, c.lead, sum(x.cost) AS cost FROM {districts} d JOIN {sites} s ON s.district = d.name JOIN {firms} f ON f.id = s.firm_id JOIN {shifts} x ON x.site_id = s.id JOIN {crews} c ON c.id = x.crew_id JOIN {samples} m ON m.site_id = s.id AND m.taken = x.day WHERE f.kind = 'drilling' GROUP BY d.zone, c.lead ORDER BY cost DESC, c.lead LIMIT 10"},
}

// tableInText is a table of a report, with its alias where it has one.
var tableInText = regexp.MustCompile(`\{(\w+)\}( [a-z]\b)?`)

// BenchmarkReports gives, for each engine and report, the time as governed in terms of
// the time by hand, medians of runs that take turns, and the geometric means.
func BenchmarkReports(b *testing.B) {
	b.Run("SQLite", func(b *testing.B) {
		setup := reportTables(func(n int) string {
			return fmt.Sprintf("(WITH RECURSIVE n (i) AS (VALUES (0) UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT i FROM n) AS n", n-1)
		}, func(x string, n int) string { return fmt.Sprintf("((%s) %% %d)", x, n) },
			func(x string) string { return "date('2019-01-01', (" + x + ") || ' days')" }, func(parts ...string) string { return strings.Join(parts, " || ") })
		benchmarkReports(b, onSQLite, setup+" ANALYZE;")
	})
	b.Run("PostgreSQL", func(b *testing.B) {
		setup := reportTables(func(n int) string { return fmt.Sprintf("generate_series(0, %d::bigint) AS n (i)", n-1) },
			func(x string, n int) string { return fmt.Sprintf("((%s) %% %d)", x, n) },
			func(x string) string { return "(DATE '2019-01-01' + (" + x + ")::integer)" }, func(parts ...string) string { return "concat(" + strings.Join(parts, ", ") + ")" })
		url := database(b)
		rowSecurity = strings.Replace(url, "//postgres@", "//plain@", 1)
		defer func() { rowSecurity = "" }()
		benchmarkReports(b, func(t testing.TB, setup string) (source.Source, *access.Model) { return onDatabase(t, url, setup) }, exactTypes.Replace(setup)+ownSecurity+" ANALYZE;")
	})
}

// rowSecurity is where an account connects for which the server's own row security has the
// rules that flint's policies come to; empty: nowhere.
var rowSecurity string

const ownSecurity = `
	DO $$ BEGIN CREATE ROLE plain LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$;
	GRANT USAGE ON SCHEMA s TO plain; GRANT SELECT ON ALL TABLES IN SCHEMA s TO plain;
	ALTER TABLE assays ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON assays USING (district IN ('coast', 'north'));
	ALTER TABLE samples ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON samples USING (district IN ('coast', 'north'));
	ALTER TABLE sites ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON sites USING (district IN ('coast', 'north', 'basin'));
	ALTER TABLE shifts ENABLE ROW LEVEL SECURITY; CREATE POLICY p ON shifts USING (EXISTS (SELECT 1 FROM sites y WHERE y.id = site_id));`

// exactTypes are those that a PostgreSQL database of amounts has.
var exactTypes = strings.NewReplacer("price DOUBLE PRECISION", "price NUMERIC(15,2)", "discount DOUBLE PRECISION", "discount NUMERIC(4,2)", "ppm DOUBLE PRECISION", "ppm NUMERIC(12,2)",
	"cost DOUBLE PRECISION", "cost NUMERIC(15,2)", "balance DOUBLE PRECISION", "balance NUMERIC(15,2)", "element TEXT", "element CHAR(2)", "code TEXT", "code CHAR(2)",
	"district TEXT", "district VARCHAR(12)", "label TEXT", "label VARCHAR(40)", "kind TEXT", "kind CHAR(10)")

func benchmarkReports(b *testing.B, make maker, setup string) {
	src, m := make(b, setup)
	set := &policy.Set{}
	in := func(table, list string) policy.Change {
		return policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: table}, Table: "src.s." + table, Rule: "district IN (" + list + ")"}
	}
	for _, c := range []policy.Change{in("assays", "'coast', 'north'"), in("samples", "'coast', 'north'"), in("sites", "'coast', 'north', 'basin'"),
		policy.PutRelationship{Declared: true, From: []string{"src.s.shifts.site_id"}, To: []string{"src.s.sites.id"}},
		policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "shifts"}, Table: "src.s.shifts", Follow: "src.s.sites"},
		policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: "phone"}, Columns: []string{"src.s.firms.phone"}, Treat: "suppress"}} {
		next, err := set.Apply(c, m)
		if err != nil {
			b.Fatal(err)
		}
		set = next
	}
	st := rights(b, m, "flint")
	run := func(text string, args []any, columns []query.Column) (string, time.Duration) {
		var answer strings.Builder
		started := time.Now()
		if err := src.Run(context.Background(), text, args, columns, func(row []any) error {
			for _, v := range row {
				if x, ok := v.(float64); ok {
					fmt.Fprintf(&answer, "%.6g|", x)
				} else {
					fmt.Fprint(&answer, v, "|")
				}
			}
			answer.WriteByte('\n')
			return nil
		}); err != nil {
			b.Fatalf("%v\n%s", err, text)
		}
		return answer.String(), time.Since(started)
	}
	var secured source.Source
	if rowSecurity != "" {
		plain, err := postgres.Open(rowSecurity)
		if err != nil {
			b.Fatal(err)
		}
		defer plain.Close()
		secured = plain
	}
	own, owns := 0.0, 0
	free := map[string]float64{} // without policies, in terms of the server asked directly
	plain, computed := 0.0, 0.0
	plains, computeds, worst := 0, 0, 0.0
	for _, r := range reports {
		governedText := tableInText.ReplaceAllString(r.text, "src.s.$1$2")
		hand := tableInText.ReplaceAllStringFunc(r.text, func(found string) string {
			parts := tableInText.FindStringSubmatch(found)
			rule, ok := reportRules[parts[1]]
			if !ok {
				return "s." + parts[1] + parts[2]
			}
			return "(" + rule + ") AS " + cmp.Or(strings.TrimSpace(parts[2]), parts[1])
		})
		var params []any
		if strings.Contains(r.text, "$1") {
			params = []any{reportPoint}
		}
		plan, err := emit.Make(governedText, params, st, set)
		if err != nil {
			b.Fatalf("%s: %v", r.name, err)
		}
		args := source.Bind(plan.Args, source.Facts{Key: testKey, Nonce: testNonce})
		var times [2][]time.Duration
		for i := 0; i < 9 || i < 201 && times[1][0] < 5*time.Millisecond; i++ {
			got, governed := run(plan.SQL, args, plan.Columns)
			want, byHand := run(hand, params, plan.Columns)
			if got != want {
				b.Fatalf("%s: the answers differ:\n%.500s\n%.500s\n%s\n%s", r.name, got, want, plan.SQL, hand)
			}
			times[0], times[1] = append(times[0], governed), append(times[1], byHand)
		}
		if _, exact := src.(*postgres.Source); exact {
			free[r.name] = freely(b, r.text, params, st, run)
		}
		if secured != nil && !strings.Contains(r.text, "phone") {
			var theirs []time.Duration
			direct := tableInText.ReplaceAllString(r.text, "s.$1$2")
			for i := 0; i < 9 || i < 201 && theirs[0] < 5*time.Millisecond; i++ {
				started := time.Now()
				if err := secured.Run(context.Background(), direct, params, plan.Columns, func([]any) error { return nil }); err != nil {
					b.Fatal(err)
				}
				theirs = append(theirs, time.Since(started))
			}
			slices.Sort(theirs)
			slices.Sort(times[0])
			ratio := float64(times[0][len(times[0])/2]) / float64(theirs[len(theirs)/2])
			own, owns = own+math.Log(ratio), owns+1
			b.Logf("%6.2f  of the server's own row security: %s", ratio, r.name)
		}
		slices.Sort(times[0])
		slices.Sort(times[1])
		ratio := float64(times[0][len(times[0])/2]) / float64(times[1][len(times[1])/2])
		b.Logf("%6.2f  %8.1f ms  %s", ratio, float64(times[1][len(times[1])/2].Microseconds())/1000, r.name)
		if strings.Contains(r.name, "computed condition") || strings.Contains(r.name, "sub-query") {
			computed, computeds = computed+math.Log(ratio), computeds+1
		} else {
			plain, plains = plain+math.Log(ratio), plains+1
		}
		worst = max(worst, ratio)
	}
	b.ReportMetric(math.Exp(plain/float64(plains)), "plain/by-hand")
	b.ReportMetric(math.Exp(computed/float64(computeds)), "computed/by-hand")
	b.ReportMetric(worst, "worst/by-hand")
	if owns > 0 {
		b.ReportMetric(math.Exp(own/float64(owns)), "governed/row-security")
	}
	sum, most := 0.0, 0.0
	for name, ratio := range free {
		b.Logf("%6.2f  without policies: %s", ratio, name)
		sum, most = sum+math.Log(ratio), max(most, ratio)
	}
	if len(free) > 0 {
		b.ReportMetric(math.Exp(sum/float64(len(free))), "free/direct")
		b.ReportMetric(most, "worst-free/direct")
	}
	b.ReportMetric(0, "ns/op")
}

// freely is the time of a report without policies in terms of that of the same text sent to
// the server.
func freely(b *testing.B, text string, params []any, st *access.Rights, run func(string, []any, []query.Column) (string, time.Duration)) float64 {
	plan, err := emit.Make(tableInText.ReplaceAllString(text, "src.s.$1$2"), params, st, &policy.Set{})
	if err != nil {
		b.Fatal(err)
	}
	direct := tableInText.ReplaceAllString(text, "s.$1$2")
	args := source.Bind(plan.Args, source.Facts{})
	var times [2][]time.Duration
	for i := 0; i < 9 || i < 201 && times[1][0] < 5*time.Millisecond; i++ {
		got, ours := run(plan.SQL, args, plan.Columns)
		want, theirs := run(direct, params, plan.Columns)
		if got != want {
			b.Fatalf("the answers differ:\n%.500s\n%.500s\n%s", got, want, plan.SQL)
		}
		times[0], times[1] = append(times[0], ours), append(times[1], theirs)
	}
	slices.Sort(times[0])
	slices.Sort(times[1])
	return float64(times[0][len(times[0])/2]) / float64(times[1][len(times[1])/2])
}
