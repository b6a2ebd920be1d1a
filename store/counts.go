package store

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// A purpose is what somebody types, and counts are kept for longer than records: beyond so many standpoints
// of a person a day, those with a purpose are counted as having other ones.
const (
	mostStandings = 20
	OtherPurposes = "other purposes"
)

// Count counts the records that were written since it was last called: what they needed and what they
// read, by day. A record is counted once, whatever happens meanwhile.
func (a *Audit) Count(ctx context.Context) error {
	a.counting.Lock()
	defer a.counting.Unlock()
	for {
		more, err := a.countSome(ctx)
		if err != nil || !more {
			return err
		}
	}
}

// A count is one of the tables that records are counted in. What a portion of records adds to it is first gathered in a
// temporary table, while others may write to the file, and then added.
type count struct {
	gather string // a query over the records of the portion
	write  string // a statement that adds the temporary table, %s, to the count
}

// adding is a statement that inserts the gathered rows, and for rows that exist updates them.
func adding(into, adds string) string {
	return "INSERT INTO " + into + " SELECT * FROM %s WHERE true ON CONFLICT DO UPDATE SET " + adds
}

// portionOf lists the records of a portion.
var portionOf = "CREATE TEMP TABLE portion AS SELECT * FROM entry WHERE " + near

// labelled lists what was read of each label, on the day the read began: n is 1, or 0 for a record that only ends an
// open one. Each read is also in it once with an empty label, which stands for any.
const labelled = `CREATE TEMP TABLE labelled AS
	WITH read AS (SELECT at, labels, actor, standing, address, decision, action, 1 AS n, rows, uses FROM portion WHERE ends = 0
		UNION ALL SELECT o.at, o.labels, o.actor, o.standing, o.address, o.decision, o.action, 0, r.rows, o.uses
			FROM portion r JOIN record o ON o.id = r.ends WHERE r.ends > 0)
	SELECT at, l.value AS label, actor, standing, address, decision, n, rows, uses
	FROM read, json_each(CASE labels WHEN '[]' THEN '[]' ELSE json_insert(labels, '$[#]', '') END) l WHERE action IN ('query', 'write', 'preview')`

// excess counts further purposes of a person under one name, once there are too many on a day.
var excess = `UPDATE labelled SET standing = substr(standing, 1, instr(standing, ' for ') + 4) || '` + OtherPurposes + `' FROM (
		SELECT day, actor, said, dense_rank() OVER (PARTITION BY day, actor ORDER BY said) + (
			SELECT count(DISTINCT d.standing) FROM label_day d WHERE d.actor = new.actor AND d.day = new.day) AS place
		FROM (SELECT DISTINCT substr(at, 1, 10) AS day, actor, standing AS said FROM labelled WHERE instr(standing, ' for ') > 0) new
		WHERE NOT EXISTS (SELECT 1 FROM label_day d WHERE d.actor = new.actor AND d.day = new.day AND d.standing = new.said)
	) excess WHERE place > ` + strconv.Itoa(mostStandings) + ` AND labelled.actor = excess.actor AND substr(labelled.at, 1, 10) = day AND standing = said`

const (
	allowed = `uses > 0 AND ends = 0 AND decision = 'allowed'`
	sums    = "n = n + excluded.n, rows = rows + excluded.rows"
)

// counts is all that is counted. A record counts once; its rows count when they are known, which for an open record is
// when it ends.
var counts = []count{
	{`SELECT substr(at, 1, 10), uses, count(*) FROM portion WHERE ` + allowed + ` GROUP BY 1, 2`, adding("use_day (day, use_set, n)", "n = n + excluded.n")},
	{`SELECT substr(at, 1, 7), uses, count(*) FROM portion WHERE ` + allowed + ` GROUP BY 1, 2`, adding("use_month (month, use_set, n)", "n = n + excluded.n")},
	{`SELECT uses, max(substr(at, 1, 10)) AS day, max(id) AS seen FROM portion WHERE ` + allowed + ` GROUP BY 1`,
		"UPDATE use_set SET last = max(last, c.day), seen = c.seen FROM %s c WHERE use_set.id = c.uses"},
	{`SELECT substr(at, 1, 10), action, decision, sum(ends = 0), sum(rows) FROM portion GROUP BY 1, 2, 3`,
		adding("action_day (day, action, decision, n, rows)", sums)},
	{`SELECT substr(at, 1, 10), label, actor, standing, address, decision, sum(n), sum(rows) FROM labelled WHERE label <> '' GROUP BY 1, 2, 3, 4, 5, 6`,
		adding("label_day (day, label, actor, standing, address, decision, n, rows)", sums)},
	{`SELECT substr(at, 1, 10), label, sum(n), sum(rows) FROM labelled WHERE label <> '' AND decision <> 'refused' GROUP BY 1, 2`,
		adding("label_total (day, label, n, rows)", sums)},
	{`SELECT actor, substr(min(at), 1, 10) FROM labelled WHERE label <> '' AND decision <> 'refused' GROUP BY 1`,
		adding("unusual_due (actor, day)", "day = min(day, excluded.day)")},
	{`WITH read AS (SELECT * FROM labelled WHERE decision <> 'refused'),
		needed AS (SELECT read.*, s.needs FROM read JOIN use_set s ON s.id = read.uses)
		SELECT substr(at, 1, size.value), label, by, name, sum(n), sum(rows) FROM (
			SELECT at, label, 'person' AS by, actor AS name, n, rows FROM read AS r WHERE NOT (` + asOther + `)
			UNION ALL SELECT at, label, 'address', address, n, rows FROM read WHERE address <> ''
			UNION ALL SELECT at, label, 'other', actor || ' as ' || substr(standing, 1, instr(standing || ' ', ' ') - 1), n, rows
				FROM read AS r WHERE ` + asOther + `
			UNION ALL SELECT at, label, 'purpose', substr(standing, instr(standing, ' for ') + 5), n, rows FROM read WHERE instr(standing, ' for ') > 0
			UNION ALL SELECT at, label, 'role', role.value, n, rows FROM needed, json_each(needs, '$.r') role
			UNION ALL SELECT at, label, 'table', t.value, n, rows FROM needed, json_each(needs, '$.t') t
		), json_each('[7, 10]') size GROUP BY 1, 2, 3, 4`, adding("label_count (span, label, by, name, n, rows)", sums)},
}

// countSome counts some records, and reports whether there are more.
func (a *Audit) countSome(ctx context.Context) (more bool, err error) {
	conn, err := a.db.Connx(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Close()
	var from, last int64
	if err := conn.GetContext(ctx, &from, `SELECT record FROM counted`); err != nil {
		return false, err
	}
	head, err := a.head(ctx)
	if last = head.Number; err != nil || last <= from {
		return false, err
	}
	until := min(last, from+a.portion.size())
	drop, gather := []string{"DROP TABLE IF EXISTS temp.portion", "DROP TABLE IF EXISTS temp.labelled"}, []string{portionOf, labelled, excess}
	var write []string
	for i, c := range counts {
		counted := fmt.Sprintf("counted_%d", i)
		drop = append(drop, "DROP TABLE IF EXISTS temp."+counted)
		gather = append(gather, "CREATE TEMP TABLE "+counted+" AS "+c.gather)
		write = append(write, fmt.Sprintf(c.write, counted))
	}
	for _, text := range slices.Concat(drop, gather) { // drops what an interrupted count left behind, first
		if err := counting(ctx, conn, text, from+1, until); err != nil {
			return false, err
		}
	}
	a.turn.take()
	defer a.turn.Unlock()
	defer a.portion.fit(time.Now(), &a.turn)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer tx.Rollback()
	for _, text := range append(write, `UPDATE counted SET record = ?2`) {
		if err := counting(ctx, tx, text, from+1, until); err != nil {
			return false, err
		}
	}
	return until < last, tx.Commit()
}

// counting runs a statement, with the bounds of the portion if it has parameters.
func counting(ctx context.Context, on sqlx.ExecerContext, text string, first, last int64) error {
	var args []any
	if strings.Contains(text, "?") {
		args = []any{first, last}
	}
	if _, err := on.ExecContext(ctx, text, args...); err != nil {
		return fmt.Errorf("counting the record: %w", err)
	}
	return nil
}

// A LabelDay is what was read of a label on a day, by somebody.
type LabelDay struct {
	Day, Label, Actor string
	Standpoint        string `db:"standing"`
	Address, Decision string
	N, Rows           int64
}

// A CountSearch selects counts of what was read of labels, between two days, both included; empty names
// do not restrict. What was refused is not in them.
type CountSearch struct{ From, Until, Label, Actor string }

// LabelDays lists what was read of labels, by day and label.
func (a *Audit) LabelDays(ctx context.Context, s CountSearch) ([]LabelDay, error) {
	var out []LabelDay
	if s.Actor != "" {
		err := a.db.SelectContext(ctx, &out, `SELECT day, label, sum(n) AS n, sum(rows) AS rows FROM label_day
			WHERE actor = ? AND day >= ? AND day <= ? AND decision <> 'refused' AND (? = '' OR label = ?) GROUP BY day, label`,
			s.Actor, s.From, s.Until, s.Label, s.Label)
		return out, err
	}
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM label_total WHERE day >= ? AND day <= ? AND (? = '' OR label = ?) ORDER BY day`,
		s.From, s.Until, s.Label, s.Label)
	return out, err
}

// A Total is what something comes to.
type Total struct {
	Name    string
	N, Rows int64
}

// Totals lists what was read of labels, by person, address, other (as whom), purpose, role or table, most
// rows first, at most limit; roles and tables by their numbers. Of one person, roles
// and tables are not known.
func (a *Audit) Totals(ctx context.Context, s CountSearch, by string, limit int) ([]Total, error) {
	var out []Total
	if s.Actor != "" {
		return a.totalsOf(ctx, s, by, limit)
	}
	times, args := timesOf(s.From, s.Until)
	if times == "" {
		return nil, nil
	}
	err := a.db.SelectContext(ctx, &out, times+`
		SELECT c.name, sum(sign * c.n) AS n, sum(sign * c.rows) AS rows FROM times JOIN label_count c ON c.span = times.span AND c.label = ? AND c.by = ?
		GROUP BY 1 HAVING sum(sign * c.n) <> 0 OR sum(sign * c.rows) <> 0 ORDER BY 3 DESC, 2 DESC, 1 LIMIT ?`, append(args, s.Label, by, limit)...)
	return out, err
}

// totalsOf is Totals of one person.
func (a *Audit) totalsOf(ctx context.Context, s CountSearch, by string, limit int) ([]Total, error) {
	var out []Total
	name, is := "", "true"
	switch by {
	case "person":
		name, is = "actor", "NOT ("+asOther+")"
	case "address":
		name = "address"
	case "other":
		name, is = "actor || ' as ' || substr(standing, 1, instr(standing || ' ', ' ') - 1)", asOther
	case "purpose":
		name, is = "substr(standing, instr(standing, ' for ') + 5)", "instr(standing, ' for ') > 0"
	default:
		return nil, nil
	}
	// Where no label is asked for, a read of two is in the days of both.
	err := a.db.SelectContext(ctx, &out, `SELECT `+name+` AS name, sum(n) AS n, sum(rows) AS rows FROM label_day r
		WHERE actor = ? AND day >= ? AND day <= ? AND decision <> 'refused' AND (? = '' OR label = ?) AND `+is+` AND name <> ''
		GROUP BY 1 ORDER BY 3 DESC, 2 DESC, 1 LIMIT ?`, s.Actor, s.From, s.Until, s.Label, s.Label, limit)
	return out, err
}

// timesOf is the days from one to another as a table of spans and signs, to stand before a query; "" where
// there are none.
func timesOf(from, until string) (times string, args []any) {
	today := time.Now().UTC().Format(time.DateOnly)
	spans, signs := spansOf(from, min(until, max(from, today)), today)
	if len(spans) == 0 {
		return "", nil
	}
	for i, span := range spans {
		args = append(args, span, signs[i])
	}
	return "WITH times (span, sign) AS (VALUES (?, ?)" + strings.Repeat(", (?, ?)", len(spans)-1) + ")", args
}

// spansOf writes the days from one to another as months and days, with which sign each counts: a month
// of which more days are asked for than not is the month without those. Behind today nothing is.
func spansOf(from, until, today string) (spans []string, signs []int) {
	first, err := time.Parse(time.DateOnly, from)
	last, err2 := time.Parse(time.DateOnly, until)
	if err != nil || err2 != nil {
		return nil, nil
	}
	day := func(d time.Time, sign int) {
		spans, signs = append(spans, d.Format(time.DateOnly)), append(signs, sign)
	}
	for month := first.AddDate(0, 0, 1-first.Day()); !month.After(last); month = month.AddDate(0, 1, 0) {
		var within, without []time.Time
		for d := month; d.Month() == month.Month(); d = d.AddDate(0, 0, 1) {
			switch {
			case !d.Before(first) && !d.After(last):
				within = append(within, d)
			case d.Format(time.DateOnly) <= today:
				without = append(without, d)
			}
		}
		if len(without) >= len(within) {
			for _, d := range within {
				day(d, 1)
			}
			continue
		}
		spans, signs = append(spans, month.Format("2006-01")), append(signs, 1)
		for _, d := range without {
			day(d, -1)
		}
	}
	return spans, signs
}

// An Unusual is what stands out in what somebody read of a label on a day.
type Unusual struct {
	Day, Kind, Actor, Label, Address string
	N, Rows                          int64
	Usual                            int64 // rows on such a day
}

// Unusual lists what stands out, newest first, at most limit.
func (a *Audit) Unusual(ctx context.Context, s CountSearch, limit int) ([]Unusual, error) {
	var out []Unusual
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM unusual WHERE day >= ? AND day <= ? AND (? = '' OR label = ?) AND (? = '' OR actor = ?)
		ORDER BY day DESC, kind, actor, label LIMIT ?`, s.From, s.Until, s.Label, s.Label, s.Actor, s.Actor, limit)
	return out, err
}

// memory is how many days before a day tell what is usual on it.
const memory = 400

// mostLooked is how many people are looked at in one transaction.
const mostLooked = 100

// Look has judge say what stands out from a day on in what each person read whose counts changed: days are
// theirs, also from before it, and oldest is when labels began to be counted. It counts first.
func (a *Audit) Look(ctx context.Context, judge func(days []LabelDay, from, oldest string) []Unusual) error {
	if err := a.Count(ctx); err != nil {
		return err
	}
	a.counting.Lock()
	defer a.counting.Unlock()
	for {
		n, err := a.lookAtSome(ctx, judge)
		if err != nil || n < mostLooked {
			return err
		}
	}
}

func (a *Audit) lookAtSome(ctx context.Context, judge func(days []LabelDay, from, oldest string) []Unusual) (n int, err error) {
	var people []struct{ Actor, Day string }
	if err := a.db.SelectContext(ctx, &people, `SELECT actor, day FROM unusual_due LIMIT ?`, mostLooked); err != nil || len(people) == 0 {
		return 0, err
	}
	var oldest string
	if err := a.db.GetContext(ctx, &oldest, `SELECT coalesce(min(day), '') FROM label_day`); err != nil {
		return 0, err
	}
	found := make([][]Unusual, len(people))
	for i, p := range people {
		var days []LabelDay
		if err := a.db.SelectContext(ctx, &days, `SELECT * FROM label_day WHERE actor = ? AND day >= date(?, ?) AND decision <> 'refused' ORDER BY day, label`,
			p.Actor, p.Day, fmt.Sprintf("-%d days", memory)); err != nil {
			return 0, err
		}
		found[i] = judge(days, p.Day, oldest)
	}
	a.turn.take()
	defer a.turn.Unlock()
	tx, err := a.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	for i, p := range people {
		if _, err := tx.ExecContext(ctx, `DELETE FROM unusual WHERE actor = ? AND day >= ?`, p.Actor, p.Day); err != nil {
			return 0, err
		}
		for _, u := range found[i] {
			if _, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO unusual (day, kind, actor, label, address, n, rows, usual)
				VALUES (:day, :kind, :actor, :label, :address, :n, :rows, :usual)`, u); err != nil {
				return 0, err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unusual_due WHERE actor = ?`, p.Actor); err != nil {
			return 0, err
		}
	}
	return len(people), tx.Commit()
}

// An ActionDay is how much was recorded on a day.
type ActionDay struct {
	Day, Action, Decision string
	N, Rows               int64
}

// ActionDays lists how much was recorded between two days, both included.
func (a *Audit) ActionDays(ctx context.Context, from, until string) ([]ActionDay, error) {
	var out []ActionDay
	err := a.db.SelectContext(ctx, &out, `SELECT * FROM action_day WHERE day >= ? AND day <= ? ORDER BY day`, from, until)
	return out, err
}

// Load writes records of an earlier time behind those that there are, and says since when use
// is counted.
func (a *Audit) Load(ctx context.Context, records []*Record, since string) error {
	const most = 1000 // that go through the writer at once, in their order
	for len(records) > 0 {
		part := records[:min(len(records), most)]
		records = records[len(part):]
		e := entry{more: part, result: make(chan error, 1)}
		if err := a.put(e); err != nil {
			return err
		}
	}
	a.turn.take()
	defer a.turn.Unlock()
	_, err := a.db.ExecContext(ctx, `UPDATE counted SET since = ?`, since)
	return err
}
