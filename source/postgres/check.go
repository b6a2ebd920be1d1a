package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/sqltype"
	"gneiss/source"
)

// The versions whose documents were read; what the core knows of routines and operators is of
// Version.
const (
	oldest = 13
	newest = 17
)

// Check implements [source.Source]: what the account may and may not, and what that means.
func (s *Source) Check(ctx context.Context) ([]source.Note, error) {
	var took []time.Duration
	for range 5 {
		started := time.Now()
		if err := s.readers.Ping(ctx); err != nil {
			return nil, told(err)
		}
		took = append(took, time.Since(started))
	}
	slices.Sort(took)
	var version, account string
	var super, bypass, standby, tls bool
	err := s.readers.QueryRow(ctx, `
		SELECT current_setting('server_version'), current_user::text, r.rolsuper, r.rolbypassrls, pg_is_in_recovery(),
		  coalesce((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false)
		FROM pg_roles r WHERE r.rolname = current_user`).Scan(&version, &account, &super, &bypass, &standby, &tls)
	if err != nil {
		return nil, told(err)
	}
	notes := []source.Note{
		{Says: fmt.Sprintf("answers in %.2f ms, as %s", float64(took[2].Microseconds())/1000, account)},
		versionNote(version),
	}
	note := func(is bool, worry source.Worry, says string) {
		if is {
			notes = append(notes, source.Note{Worry: worry, Says: says})
		}
	}
	local := strings.HasPrefix(s.readers.Config().ConnConfig.Host, "/") ||
		slices.Contains([]string{"127.0.0.1", "::1", "localhost"}, s.readers.Config().ConnConfig.Host)
	note(tls, source.Fine, "the connection is encrypted")
	note(!tls && local, source.Fine, "the connection is not encrypted, and stays on this machine")
	note(!tls && !local, source.Bad, "the connection is not encrypted: add sslmode=verify-full to the location")
	note(
		super,
		source.Bad,
		account+" is a superuser, which can do more than Gneiss ever asks for: connect with an account that holds just what people are to use",
	)
	note(standby, source.Odd, "the server is a standby: rows can be read, not changed")
	return append(notes, s.rightsNotes(ctx, bypass)...), nil
}

func versionNote(version string) source.Note {
	major := 0
	fmt.Sscanf(version, "%d", &major)
	switch {
	case major < oldest || major > newest:
		return source.Note{Worry: source.Odd, Says: fmt.Sprintf("PostgreSQL %s; Gneiss is made for %d to %d", version, oldest, newest)}
	case major != sqltype.Version:
		return source.Note{
			Worry: source.Odd,
			Says: fmt.Sprintf(
				"PostgreSQL %s; the routines that can be called are those of version %d, and one that this server lacks fails when it is called",
				version,
				sqltype.Version,
			),
		}
	}
	return source.Note{Says: "PostgreSQL " + version}
}

// rightsNotes says which tables the account cannot use, and how.
func (s *Source) rightsNotes(ctx context.Context, bypass bool) []source.Note {
	var notes []source.Note
	list := func(worry source.Worry, format, query string, args ...any) {
		var n int
		var names []string
		query = "SELECT count(*)::integer, coalesce((array_agg(name ORDER BY name))[1:5], '{}') FROM (" + query + ") AS found (name)"
		if err := s.readers.QueryRow(ctx, query, args...).Scan(&n, &names); err != nil {
			notes = append(
				notes,
				source.Note{Worry: source.Bad, Says: fmt.Sprintf("it cannot be seen whether %s (%v)", fmt.Sprintf(format, "some", ""), told(err))},
			)
			return
		}
		if n > 0 {
			more := ""
			if n > len(names) {
				more = fmt.Sprintf(" and %d more", n-len(names))
			}
			notes = append(notes, source.Note{Worry: worry, Says: fmt.Sprintf(format, fmt.Sprint(n), strings.Join(names, ", ")+more)})
		}
	}
	const tables = ` FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'f', 'm') AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' AND NOT c.relispartition`
	list(
		source.Odd,
		"%s schemas cannot be entered, for the account lacks USAGE: %s",
		`SELECT n.nspname::text FROM pg_namespace n
			WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema' AND NOT has_schema_privilege(n.oid, 'USAGE')`,
	)
	list(source.Odd, "%s tables cannot be read at all, for the account lacks SELECT: %s",
		`SELECT n.nspname || '.' || c.relname`+tables+` AND has_schema_privilege(n.oid, 'USAGE') AND NOT has_any_column_privilege(c.oid, 'SELECT')`)
	list(
		source.Odd,
		"%s tables can be read and not all of INSERT, UPDATE and DELETE done to: %s",
		`SELECT n.nspname || '.' || c.relname`+tables+` AND c.relkind <> 'm' AND has_schema_privilege(n.oid, 'USAGE') AND has_any_column_privilege(c.oid, 'SELECT')
			AND NOT (has_table_privilege(c.oid, 'INSERT') AND has_table_privilege(c.oid, 'UPDATE') AND has_table_privilege(c.oid, 'DELETE'))`,
	)
	if !bypass {
		list(source.Odd, "%s tables have row security of the server's own, which takes rows away from the account before Gneiss sees them: %s",
			`SELECT n.nspname || '.' || c.relname`+tables+` AND row_security_active(c.oid)`)
	}
	return notes
}
