package source_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"gneiss/core/policy"
)

// A condition is one of a policy's: its text, and what it means in plain Go.
type condition struct {
	tables []string // that it can be about
	rule   string
	holds  func(w *world, user string, row map[string]any) bool
}

type rowPolicy struct {
	condition
	table          string // one table, a pattern or a label, without the source
	mode, commands string
	whom, except   string
	follow         string // the parent table, in place of the condition
}

type colPolicy struct {
	tables       []string // with the columns, in pairs
	columns      []string
	label        string
	treat        string
	args         policy.Treatment // without its kind
	when         *condition
	whom, except string
}

// labels are what each label was put on: columns, or whole tables.
var labels = map[string][]string{
	"words":  {"s1.t.name", "s1.u.note"},
	"counts": {"s1.t.n", "s1.u.t_id"},
	"sheet":  {"s1.u", "s2.ent"},
}

// parents are the relationships: by which column a table belongs to another's.
var parents = map[string][3]string{"s1.u": {"t_id", "s1.t", "id"}, "s1.t": {"g", "s2.ent", "g"}}

func randomSubject(r *rand.Rand) string {
	return pick(r, "", "user:flint", "user:jasper", "group:a", "group:b", "role:r1", "role:r2")
}

func among(list []string, v any) bool {
	s, ok := v.(string)
	return ok && slices.Contains(list, s)
}

func whole(v any, f func(int64) bool) bool {
	n, ok := v.(int64)
	return ok && f(n)
}

func randomCondition(r *rand.Rand) condition {
	k := int64(r.IntN(5))
	t, u, ent, grouped := []string{"s1.t"}, []string{"s1.u"}, []string{"s2.ent"}, []string{"s1.t", "s1.u", "s2.ent"}
	return pick(r,
		condition{grouped, "g IN (attribute('gs'))", func(w *world, u string, row map[string]any) bool { return among(w.gs[u], row["g"]) }},
		condition{u, "g NOT IN (attribute('gs'))", func(w *world, u string, row map[string]any) bool {
			return len(w.gs[u]) == 0 || row["g"] != nil && !among(w.gs[u], row["g"])
		}},
		condition{u, "in_group(g)", func(w *world, u string, row map[string]any) bool { return among(w.groups[u], row["g"]) }},
		condition{t, "in_group(g) OR has_role('r1')", func(w *world, u string, row map[string]any) bool {
			return among(w.groups[u], row["g"]) || slices.Contains(w.acting[u], "r1")
		}},
		condition{t, fmt.Sprintf("n > %d", k), func(_ *world, _ string, row map[string]any) bool {
			return whole(row["n"], func(n int64) bool { return n > k })
		}},
		condition{t, fmt.Sprintf("n / nullif(%d, 0) = 1 OR n IS NULL", k), func(_ *world, _ string, row map[string]any) bool {
			return row["n"] == nil || k != 0 && whole(row["n"], func(n int64) bool { return n/k == 1 })
		}},
		condition{t, "name LIKE 'a%' -- a comment", func(_ *world, _ string, row map[string]any) bool {
			s, ok := row["name"].(string)
			return ok && strings.HasPrefix(s, "a")
		}},
		condition{t, "d >= DATE '2024-05-01'", func(_ *world, _ string, row map[string]any) bool {
			s, ok := row["d"].(string)
			return ok && s >= "2024-05-01"
		}},
		condition{t, "b", func(_ *world, _ string, row map[string]any) bool { return row["b"] == true }},
		condition{u, "true", func(*world, string, map[string]any) bool { return true }},
		condition{t, "g IN (SELECT g FROM s2.ent WHERE person = CURRENT_USER)", func(w *world, u string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s2.ent"], func(e map[string]any) bool { return e["person"] == u && e["g"] == row["g"] })
		}},
		condition{t, "g NOT IN (SELECT g FROM s2.ent WHERE person = CURRENT_USER)", func(w *world, u string, row map[string]any) bool {
			return !slices.ContainsFunc(w.rows["s2.ent"], func(e map[string]any) bool { return e["person"] == u && e["g"] == row["g"] })
		}},
		condition{u, "g IN (SELECT ent.g FROM src.s2.ent WHERE person = CURRENT_USER)", func(w *world, u string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s2.ent"], func(e map[string]any) bool { return e["person"] == u && e["g"] == row["g"] })
		}},
		condition{t, fmt.Sprintf("EXISTS (SELECT 1 FROM u WHERE u.t_id = t.id AND v >= %d)", k), func(w *world, _ string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s1.u"], func(e map[string]any) bool {
				return e["t_id"] == row["id"] && whole(e["v"], func(n int64) bool { return n >= k })
			})
		}},
		condition{ent, "person = CURRENT_USER", func(_ *world, u string, row map[string]any) bool { return row["person"] == u }},
		condition{t, "name IN (team())", func(w *world, u string, row map[string]any) bool { return among(w.team(u), row["name"]) }},
		condition{ent, "person IN (team())", func(w *world, u string, row map[string]any) bool { return among(w.team(u), row["person"]) }},
		condition{u, fmt.Sprintf("purpose() = 'audit' OR v < %d", k), func(w *world, _ string, row map[string]any) bool {
			return w.purpose == "audit" || whole(row["v"], func(n int64) bool { return n < k })
		}},
	)
}

func randomRowPolicy(r *rand.Rand) rowPolicy {
	p := rowPolicy{condition: randomCondition(r), mode: pick(r, "allow", "allow", "limit"), commands: pick(r, "both", "both", "read", "write"), whom: randomSubject(r)}
	p.table = p.tables[0]
	if len(p.tables) > 1 {
		switch r.IntN(3) {
		case 0:
			p.table, p.tables = "s1.*", []string{"s1.t", "s1.u"}
		case 1:
			p.table, p.tables = "label:sheet", []string{"s1.u", "s2.ent"}
		}
	}
	if r.IntN(6) == 0 {
		child := pick(r, "s1.u", "s1.u", "s1.t")
		by := parents[child]
		p.table, p.tables, p.follow, p.rule = child, []string{child}, by[1], ""
		p.holds = func(w *world, user string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows[by[1]], func(parent map[string]any) bool {
				return row[by[0]] != nil && parent[by[2]] == row[by[0]] && w.shown(user, by[1], parent, "read")
			})
		}
	}
	p.tables = p.tables[:len(p.tables):len(p.tables)]
	if !strings.ContainsAny(p.table, "*:") {
		p.tables = []string{p.table}
	}
	if r.IntN(3) == 0 {
		p.except = randomSubject(r)
	}
	return p
}

func randomColPolicy(r *rand.Rand) colPolicy {
	var p colPolicy
	column := pick(r, "s1.t.name", "s1.t.n", "s1.t.g", "s1.t.x", "s1.t.d", "s1.u.note", "s1.u.t_id")
	on := []string{column}
	if r.IntN(4) == 0 {
		p.label = pick(r, "words", "counts", "sheet")
		on = labels[p.label]
	}
	if p.label == "sheet" { // it stands on whole tables, whose columns inherit it
		on = []string{"s1.u.id", "s1.u.t_id", "s1.u.g", "s1.u.v", "s1.u.note", "s2.ent.person", "s2.ent.g"}
	}
	for _, path := range on {
		dot := strings.LastIndexByte(path, '.')
		p.tables, p.columns = append(p.tables, path[:dot]), append(p.columns, path[dot+1:])
	}
	kinds := []string{"suppress", "constant", "generalize", "withhold blank", "withhold absent", "withhold refuse"}
	text := slices.Contains([]string{"name", "g", "note"}, p.columns[0])
	switch p.columns[0] {
	case "name", "g", "note":
		kinds = append(kinds, "mask", "mask", "pseudonym", "pseudonym")
	case "n", "t_id":
		kinds = append(kinds, "round", "pseudonym", "noise")
	case "x":
		kinds = append(kinds, "round", "noise")
	case "d":
		kinds = append(kinds, "noise")
	}
	if p.label == "" && expressions[column].sql != "" {
		kinds = append(kinds, "expression", "expression")
	}
	if p.label == "sheet" {
		kinds = []string{"suppress", "withhold blank"} // which fit every type
	}
	p.treat = pick(r, kinds...)
	p.arguments(r, text, column)
	if !strings.HasPrefix(p.treat, "withhold a") && p.treat != "withhold refuse" && r.IntN(3) == 0 {
		for range 20 {
			c := randomCondition(r)
			if !slices.ContainsFunc(p.tables, func(t string) bool { return !slices.Contains(c.tables, t) }) {
				p.when = &c
				break
			}
		}
	}
	p.whom = randomSubject(r)
	if r.IntN(2) == 0 {
		p.except = randomSubject(r)
	}
	return p
}

// arguments chooses those of the treatment.
func (p *colPolicy) arguments(r *rand.Rand, text bool, column string) {
	first := p.columns[0]
	p.args = policy.Treatment{}
	switch {
	case p.treat == "mask":
		p.args = policy.Treatment{KeepFirst: r.IntN(3), KeepLast: r.IntN(2), Fill: "#"}
	case p.treat == "noise":
		p.args = policy.Treatment{Range: map[string]float64{"x": 0.7}[first], Stable: r.IntN(2) == 0}
		if first != "x" {
			p.args.Range = float64(1 + r.IntN(3))
		}
	case p.treat == "expression":
		p.args.SQL = expressions[column].sql
	case p.treat == "round" && first == "x":
		p.args = pick(r, policy.Treatment{}, policy.Treatment{Decimals: 1}, policy.Treatment{Multiple: 0.5})
	case p.treat == "round":
		p.args = policy.Treatment{Multiple: float64(2 + r.IntN(3))}
	case p.treat == "constant":
		p.args.Value = map[string]string{"x": "1.5", "d": "2024-04-11", "n": "2", "t_id": "2"}[first]
		if text {
			p.args.Value = pick(r, "ann", "none", "")
		}
	case p.treat == "generalize" && text && r.IntN(2) == 0:
		p.args.Mapping = pick(r, policy.NewMapping(map[string]string{"a": "first", "ann": "first", "*": "other"}), policy.NewMapping(map[string]string{"a": "one", "b": "two", "x": ""}))
	case p.treat == "generalize" && text:
		p.args.Prefix = 1 + r.IntN(2)
	case p.treat == "generalize" && first == "d":
		p.args.Unit = pick(r, "month", "quarter", "year")
	case p.treat == "generalize" && first == "x":
		p.args.Bucket = 0.5
	case p.treat == "generalize":
		p.args.Bucket = float64(2 + r.IntN(2))
	}
}

// expressions are those of the treatment of that name, with what they give.
var expressions = map[string]struct {
	sql   string
	gives func(row map[string]any) any
}{
	"s1.t.name": {"coalesce(name, g)", func(row map[string]any) any {
		if row["name"] == nil {
			return row["g"]
		}
		return row["name"]
	}},
	"s1.t.n": {"id % 3", func(row map[string]any) any { return row["id"].(int64) % 3 }},
	"s1.t.x": {"n + 0.5", func(row map[string]any) any {
		if n, ok := row["n"].(int64); ok {
			return float64(n) + 0.5
		}
		return nil
	}},
	"s1.u.note": {"CASE WHEN v > 2 THEN note END", func(row map[string]any) any {
		if whole(row["v"], func(n int64) bool { return n > 2 }) {
			return row["note"]
		}
		return nil
	}},
}

// is reports whether the user is, is in, or has the subject among the roles.
func (w *world) is(user, subject string, roles []string) bool {
	kind, name, _ := strings.Cut(subject, ":")
	switch kind {
	case "user":
		return name == user
	case "group":
		return slices.Contains(w.groups[user], name)
	case "role":
		return slices.Contains(roles, name)
	}
	return false
}

// gives and takes: what is given must be acted in, what is taken goes by what is
// held.
func (w *world) gives(user, whom, except string) bool {
	return (whom == "" || w.is(user, whom, w.acting[user])) && (except == "" || !w.is(user, except, w.roles[user]))
}

func (w *world) takes(user, whom, except string) bool {
	return (whom == "" || w.is(user, whom, w.roles[user])) && (except == "" || !w.is(user, except, w.acting[user]))
}

// team lists a user and those who report to them.
func (w *world) team(user string) []string {
	team := []string{user}
	for i := 0; i < len(team); i++ {
		for _, u := range users {
			if w.lead[u] == team[i] {
				team = append(team, u)
			}
		}
	}
	return team
}

// shown reports plainly whether a row is there for a user's reading or writing.
func (w *world) shown(user, table string, row map[string]any, command string) bool {
	allowed, allows, limited := false, false, false
	for _, p := range w.rowPs {
		if !slices.Contains(p.tables, table) || p.commands != "both" && p.commands != command {
			continue
		}
		if p.mode == "allow" {
			allows = true
			allowed = allowed || w.gives(user, p.whom, p.except) && p.holds(w, user, row)
		} else if w.takes(user, p.whom, p.except) && !p.holds(w, user, row) {
			limited = true
		}
	}
	return (!allows || allowed) && !limited
}

// asked lists the policies that ask something of a column for a user: those that
// apply and that no REVEAL lifts.
func (w *world) asked(user, table, column string) []colPolicy {
	var list []colPolicy
	for _, p := range w.colPs {
		on := false
		for i := range p.columns {
			on = on || p.tables[i] == table && p.columns[i] == column
		}
		lifted := w.reveal[user+" "+table+"."+column] || p.label != "" && w.reveal[user+" label:"+p.label]
		if on && !lifted && w.takes(user, p.whom, p.except) {
			list = append(list, p)
		}
	}
	return list
}

// gone reports whether a column does not exist, or may not be named.
func (w *world) gone(user, table, column string) bool {
	return slices.ContainsFunc(w.asked(user, table, column), func(p colPolicy) bool {
		return p.treat == "withhold absent" || p.treat == "withhold refuse"
	})
}

var strictness = map[string]int{"": 0, "expression": 1, "noise": 2, "round": 3, "generalize": 4, "mask": 5, "pseudonym": 6, "constant": 7, "suppress": 8, "withhold blank": 9, "withhold absent": 10, "withhold refuse": 11}

// treated is the value that a user gets of a column of a row.
func (w *world) treated(user, table, column string, row map[string]any) any {
	var best colPolicy
	conflict := false
	for _, p := range w.asked(user, table, column) {
		if p.when != nil && !p.when.holds(w, user, row) {
			continue
		}
		switch {
		case strictness[p.treat] > strictness[best.treat]:
			best, conflict = p, false
		case p.treat == best.treat && p.args != best.args:
			conflict = true
		}
	}
	v := row[column]
	switch {
	case conflict:
		return nil
	case best.treat == "constant":
		return map[string]any{"x": 1.5, "d": "2024-04-11", "n": int64(2), "t_id": int64(2), "name": best.args.Value, "g": best.args.Value, "note": best.args.Value}[column]
	case best.treat == "expression":
		return expressions[table+"."+column].gives(row)
	case best.treat == "" || v == nil:
		return v
	}
	switch best.treat {
	case "round":
		return rounded(v, best.args)
	case "generalize":
		return generalized(v, column, best.args)
	case "noise":
		return w.noisy(v, table, column, row["id"], best.args)
	case "mask":
		return masked(v.(string), best.args)
	case "pseudonym":
		h := hmac.New(sha256.New, []byte(testKey))
		fmt.Fprint(h, v)
		if _, number := v.(int64); number {
			return int64(binary.BigEndian.Uint64(h.Sum(nil)) >> 11)
		}
		return hex.EncodeToString(h.Sum(nil)[:16])
	}
	return nil
}

func rounded(v any, args policy.Treatment) any {
	step := args.Multiple
	if x, ok := v.(float64); ok {
		if step == 0 {
			step = map[int]float64{0: 1, 1: 0.1}[args.Decimals]
			return math.Floor(x/step+0.5) / (1 / step) // x is never negative here
		}
		return math.Floor(x/step+0.5) * step
	}
	// The nearest multiple, the one away from zero where two are as near.
	n, m := v.(int64), int64(step)
	nearest := int64(0)
	for k := -20 * m; k <= 20*m; k += m {
		if d, least := abs(k-n), abs(nearest-n); d < least || d == least && abs(k) > abs(nearest) {
			nearest = k
		}
	}
	return nearest
}

func generalized(v any, column string, args policy.Treatment) any {
	switch x := v.(type) {
	case float64:
		return math.Floor(x/args.Bucket) * args.Bucket
	case int64:
		for k := int64(-100); ; k++ { // the last multiple that is not above
			if w := int64(args.Bucket); (k+1)*w > x {
				return k * w
			}
		}
	case string:
		switch {
		case args.Mapping != "":
			groups := args.Mapping.Groups()
			if group, ok := groups[x]; ok {
				return group
			}
			if rest, ok := groups["*"]; ok {
				return rest
			}
			return nil
		case column == "d":
			month := x[5:7]
			switch args.Unit {
			case "year":
				month = "01"
			case "quarter":
				month = map[string]string{"01": "01", "02": "01", "03": "01", "04": "04", "05": "04", "06": "04", "07": "07", "08": "07", "09": "07"}[month]
			}
			return x[:5] + month + "-01"
		}
		runes := []rune(x)
		return string(runes[:min(len(runes), args.Prefix)])
	}
	return nil
}

func masked(s string, args policy.Treatment) string {
	runes := []rune(s)
	var b strings.Builder
	first, last := args.KeepFirst, args.KeepLast
	for i, c := range runes {
		if keep := first+last < len(runes) && (i < first || i >= len(runes)-last); !keep {
			c = '#'
		}
		b.WriteRune(c)
	}
	return b.String()
}

// noisy moves a value by what the column, the value and the row's id make.
func (w *world) noisy(v any, table, column string, id any, args policy.Treatment) any {
	secret := map[bool]string{true: testKey, false: testNonce}[args.Stable]
	h := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(h, "%d|%s|%s", w.ids[table+"."+column], plainText(v), plainText(id))
	n := binary.BigEndian.Uint64(h.Sum(nil)) >> 11
	steps := int64(args.Range)
	whole := int64(n%uint64(2*steps+1)) - steps
	switch x := v.(type) {
	case int64:
		return x + whole
	case float64:
		return x + (float64(n)/(1<<52)-1)*args.Range
	}
	day, err := time.Parse(time.DateOnly, v.(string))
	if err != nil {
		panic(err)
	}
	return day.AddDate(0, 0, int(whole)).Format(time.DateOnly)
}

func plainText(v any) string {
	if x, ok := v.(float64); ok {
		return fmt.Sprintf("%v", x)
	}
	return fmt.Sprint(v)
}
