package sqlport_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gneiss/demo"
	"gneiss/sqlport"
)

// tool finds a client of Debian's or npm's.
func tool(t testing.TB, path string) string {
	t.Helper()
	found, err := exec.LookPath(path)
	needs(t, path, err)
	return found
}

// needs stops a test without the client that it is about. Where CI runs all are there; elsewhere the
// test is skipped.
func needs(t testing.TB, what string, missing error) {
	t.Helper()
	switch {
	case missing == nil:
	case os.Getenv("CI") != "":
		t.Fatalf("%s: %v", what, missing)
	default:
		t.Skipf("%s: %v; make clients installs it", what, missing)
	}
}

// ran runs a client and returns what it says.
func ran(t testing.TB, stdin, name string, args ...string) string {
	t.Helper()
	ctx, done := context.WithTimeout(t.Context(), 2*time.Minute)
	defer done()
	c := exec.CommandContext(ctx, name, args...)
	c.Env = append(os.Environ(), "PGPASSWORD="+demo.Password, "PGSSLMODE=disable", "PSQLRC=/dev/null", "LC_ALL=C.UTF-8", "PAGER=cat", "PGOPTIONS=")
	c.Stdin = strings.NewReader(stdin)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	began := time.Now()
	err := c.Run()
	if err != nil && name != "/usr/bin/psql" {
		t.Errorf("%s: %v after %s\n%s", name, err, time.Since(began), out.String())
	}
	return out.String()
}

// has holds that a text has others in it, in their order.
func has(t testing.TB, what, text string, parts ...string) {
	t.Helper()
	at := 0
	for _, part := range parts {
		i := strings.Index(text[at:], part)
		if i < 0 {
			t.Errorf("%s: there is no %q behind %q in\n%s", what, part, text[max(0, at-40):at], text)
			return
		}
		at += i + len(part)
	}
}

// onPsql does in psql what people do there, as one who reads and as one who has nothing.
func onPsql(t *testing.T, p *port) {
	psql := tool(t, "psql")
	flint := p.to("flint", "survey")
	say := func(commands ...string) string {
		return ran(t, strings.Join(commands, "\n"), psql, "-X", "-q", flint)
	}
	has(t, `\dn`, say(`\dn`), "assay", "drilling", "field", "licensing", "monitoring", "(5 rows)")
	has(t, `\dt`, say(`\dt drilling.*`), "boreholes", "core_boxes", "lithology", "(3 rows)")
	has(t, `\dt *.*`, say(`\dt *.*`), "drilling", "pg_catalog")
	has(t, `\d`, say(`\d drilling.lithology`), `Table "drilling.lithology"`, "id", "bigint", "not null", "weathered", "boolean", `"lithology_pkey" PRIMARY KEY, btree (id)`,
		"Foreign-key constraints:", "FOREIGN KEY (borehole_id) REFERENCES drilling.boreholes(id)")
	has(t, `\dp`, say(`\dp drilling.boreholes`), "flint=r/gneiss")
	has(t, `\du`, say(`\du`), "district_geologist", "flint", "group:geologists", "survey_reader")
	has(t, `\l`, say(`\l`), "survey", "UTF8")
	has(t, `\df`, say(`\df`), "List of functions")
	has(t, `\dv`, say(`\dv information_schema.*`), "columns", "tables")
	has(t, `\gdesc`, say(`select id, name, depth_m::text as t from drilling.boreholes \gdesc`), "bigint", "text", "text")
	has(t, `\timing`, say(`\timing on`, `select 1;`), "Time:")
	watched := exec.Command("timeout", "-s", "INT", "1.5", psql, "-X", "-q", flint)
	watched.Stdin = strings.NewReader("select count(*) as watched from drilling.boreholes \\watch 0.3\n")
	watched.Env = append(os.Environ(), "PGSSLMODE=disable")
	out, _ := watched.CombinedOutput() // which Ctrl-C ends
	has(t, `\watch`, string(out), "1310", "1310")
	file := filepath.Join(t.TempDir(), "rows.csv")
	has(t, `\copy`, say(`\copy (select id, name from drilling.boreholes order by id limit 2) to '`+file+`' csv header`, `\! cat `+file), "id,name\n1,NO-0001\n3,NO-0003")
	has(t, "FETCH_COUNT", say(`\set FETCH_COUNT 100`, `select id from drilling.boreholes order by id;`), "1\n", "(1310 rows)")
	has(t, "an error", say(`\set VERBOSITY verbose`, `select * from licensing.applications;`), "42P01", "LINE 1", "^", "HINT", "R-")
	has(t, "SET ROLE", say(`set role survey_reader; show role; reset role; show role;`), "survey_reader", "none")
	has(t, `\conninfo`, say(`\conninfo`), `database "survey" as user "flint"`)
	has(t, "completion of names", say(`SELECT pg_catalog.quote_ident(c.relname) FROM pg_catalog.pg_class c WHERE c.relkind IN ('r','S','v','m','f','p') AND
		substring(pg_catalog.quote_ident(c.relname),1,3)='bor' AND pg_catalog.pg_table_is_visible(c.oid) UNION SELECT pg_catalog.quote_ident(n.nspname) || '.'
		FROM pg_catalog.pg_namespace n WHERE substring(pg_catalog.quote_ident(n.nspname) || '.',1,3)='dri' LIMIT 1000;`), "drilling.")
	if out := say(`\d licensing.applications`, `\dt licensing.*`, `\d+ *.*`); strings.Contains(out, "applications") && !strings.Contains(out, "Did not find") {
		t.Errorf("flint is shown what is not flint's:\n%s", out)
	}
	// Marl has nothing, not even a database, until there is a door.
	marl := ran(t, "", psql, "-X", p.to("marl", "survey"), "-c", "select 1")
	has(t, "marl", marl, "does not exist or is not yours to use", "ask who administers the platform")
	opal := ran(t, "grant usage on database survey to marl;\ngrant usage on schema drilling to marl;\n\\dt *.*\n", psql, "-X", p.to("opal", "survey"))
	has(t, "GRANT", opal, "NOTICE", "GRANT", "GRANT", "boreholes")
	marl = ran(t, "\\dn\n\\dt *.*\nselect * from drilling.boreholes;\nselect * from assay.results;\n", psql, "-X", p.to("marl", "survey"))
	has(t, "marl behind a door", marl, "drilling", "(1 row)", "you lack SELECT on survey.drilling.boreholes", "assay.results does not exist or is not yours")
	for _, hidden := range []string{"boreholes |", "assay |", "licensing", "holders"} {
		if strings.Contains(marl, hidden) {
			t.Errorf("marl is shown %q:\n%s", hidden, marl)
		}
	}
}

// onPgbench runs pgbench's scripts in each of its ways.
func onPgbench(t *testing.T, p *port) {
	pgbench := tool(t, "pgbench")
	script := filepath.Join(t.TempDir(), "script.sql")
	if err := os.WriteFile(script, []byte("\\set id random(1, 500)\nSELECT name, depth_m FROM drilling.boreholes WHERE id = :id;\nBEGIN;\nSELECT count(*) FROM field.crews;\nEND;\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	host, port, _ := strings.Cut(p.address, ":")
	for _, database := range []string{"survey", "survey_pg"} {
		for _, mode := range []string{"simple", "extended", "prepared"} {
			out := ran(t, "", pgbench, "-n", "-h", host, "-p", port, "-U", "flint", "-M", mode, "-f", script, "-c", "6", "-j", "2", "-t", "30", database)
			has(t, mode, out, "number of transactions actually processed: 180/180", "number of failed transactions: 0 ")
		}
	}
}

func onJDBC(t *testing.T, p *port) {
	java := tool(t, "java")
	driver := "/usr/share/java/postgresql.jar"
	tool(t, "javac")
	_, err := os.Stat(driver)
	needs(t, "the JDBC driver", err)
	for _, database := range []string{"survey", "survey_pg"} {
		grantWrites(t, p, database)
		out := ran(t, "", java, "-cp", driver, "testdata/jdbc/Client.java", "jdbc:postgresql://"+p.address+"/"+database+"?sslmode=disable", "flint", demo.Password)
		want := []string{"PostgreSQL 15 flint", "schemas: assay drilling", "tables: drilling.boreholes.TABLE drilling.core_boxes.TABLE drilling.lithology.TABLE"}
		if database == "survey" {
			want = append(want, "columns: id.int8.NO borehole_id.int8.NO")
		} else {
			want = append(want, "columns: id.int4.NO borehole_id.int4.NO")
		}
		has(t, database, out, append(want, "keys: id.lithology_pkey", "imported: boreholes.id.lithology.borehole_id", "exported: core_boxes.borehole_id lithology.borehole_id",
			"indexes: lithology_pkey.id", "catalogs: "+database, "privileges: flint.SELECT", "1 NO-0001 209.7 2016-12-01", "between true", "1 NO-0001 209.7 2016-12-01", "rows 13",
			"refused 42501", "batch 3", "rolled back 0", "cancelled 57014")...)
	}
}

func onPython(t *testing.T, p *port) {
	python := "/usr/bin/python3"
	tool(t, python)
	needs(t, "psycopg2 and SQLAlchemy", exec.Command(python, "-c", "import psycopg2, sqlalchemy").Run())
	for _, database := range []string{"survey", "survey_pg"} {
		out := ran(t, "", python, "testdata/client.py", p.to("flint", database))
		has(t, database, out, "(1, 209.7, datetime.date(2016, 12, 1), 'NO-0001')", "rows 1310", `'id,name\n1,NO-0001\n3,NO-0003\n'`, "refused 42501 InsufficientPrivilege",
			"'drilling'", "['boreholes', 'core_boxes', 'lithology']", "('weathered', 'BOOLEAN', True)", "'lithology_pkey'", "(['borehole_id'], 'boreholes')", "loaded 12")
	}
}

func onNode(t *testing.T, p *port) {
	node := tool(t, "node")
	_, err := os.Stat("testdata/node/node_modules/pg")
	needs(t, "the packages of testdata/node", err)
	for _, database := range []string{"survey", "survey_pg"} {
		out := ran(t, "", node, "testdata/node/client.js", p.to("flint", database))
		has(t, database, out, `209.7,"NO-0001"`, "rows 1310", "refused 42501", "syntax 42601 1", "count 1310 1310")
	}
}

// TestDesktop reads governed tables with what people have on their desks: an ODBC driver, and a
// spreadsheet that LibreOffice makes, as two people with their own rows in it. It needs heavy
// packages, so it runs where it is asked for: make test-desktop.
func TestDesktop(t *testing.T) {
	if os.Getenv("GNEISS_DESKTOP") == "" {
		t.Skip("make test-desktop runs it")
	}
	p := opened(t, true, sqlport.Limits{})
	host, port, _ := strings.Cut(p.address, ":")
	t.Run("ODBC", func(t *testing.T) {
		drivers := filepath.Join(t.TempDir(), "odbcinst.ini")
		found, err := filepath.Glob("/usr/lib/*/odbc/psqlodbcw.so")
		if err != nil || len(found) == 0 {
			t.Fatalf("the ODBC driver is not there: %v", err)
		}
		if err := os.WriteFile(drivers, []byte("[Gneiss]\nDriver="+found[0]+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		t.Setenv("ODBCSYSINI", filepath.Dir(drivers))
		for _, database := range []string{"survey", "survey_pg"} {
			line := fmt.Sprintf("Driver=Gneiss;Server=%s;Port=%s;Database=%s;UID=flint;PWD=%s;SSLmode=disable", host, port, database, demo.Password)
			isql := tool(t, "isql")
			out := ran(t, "select id, name, depth_m from drilling.boreholes where id < 4\n", isql, "-b", "-v", "-k", "-x0x2c", line)
			has(t, "isql", out, "1,NO-0001,209.7", "3,NO-0003,632.2")
			out = ran(t, "help\n", isql, "-b", "-v", "-k", "-x0x2c", line)
			has(t, "the tables", out, "drilling,boreholes,TABLE")
			out = ran(t, "help boreholes\n", isql, "-b", "-v", "-k", "-x0x2c", line)
			has(t, "the columns", out, "boreholes,id", "boreholes,name", "boreholes,district")
			if out = ran(t, "insert into drilling.boreholes (id) values (1)\n", isql, "-b", "-v", "-k", line); !strings.Contains(out, "42501") {
				t.Errorf("a refusal: %s", out)
			}
		}
	})
	t.Run("LibreOffice", func(t *testing.T) {
		office := tool(t, "soffice")
		for _, database := range []string{"survey", "survey_pg"} {
			for user, want := range map[string][]string{"flint": {"NO-0001", "1310"}, "jasper": {"CO-", ""}} {
				dir := t.TempDir()
				sheet := filepath.Join(dir, "sheet.ods")
				out := ran(t, "", "/usr/bin/python3", "testdata/office.py", office, dir, host, port, database, user, demo.Password, sheet)
				csv, err := os.ReadFile(filepath.Join(dir, "sheet.csv"))
				if err != nil {
					t.Fatalf("%v\n%s", err, out)
				}
				has(t, database+" as "+user, string(csv), `"id","name","district"`, want[0])
				other := map[string]string{"flint": "CO-", "jasper": "NO-"}[user]
				if strings.Contains(string(csv), other) {
					t.Errorf("the sheet of %s has %s rows", user, other)
				}
				if _, err := os.Stat(sheet); err != nil {
					t.Error(err)
				}
			}
		}
	})
}
