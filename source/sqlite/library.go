package sqlite

import (
	"math"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gneiss/core/query"
)

// library are the functions that queries may call and SQLite lacks. As all of
// Gneiss's, they cannot fail: what has no result is NULL.
var library = map[string]any{
	"gneiss_sign": ofNumber(func(x float64) float64 {
		switch {
		case x > 0:
			return 1
		case x < 0:
			return -1
		}
		return 0
	}),
	"gneiss_sqrt":        ofNumber(math.Sqrt),
	"gneiss_exp":         ofNumber(math.Exp),
	"gneiss_ln":          ofNumber(math.Log),
	"gneiss_log":         ofNumber(math.Log10),
	"gneiss_power":       power,
	"gneiss_trunc":       truncated,
	"gneiss_lpad":        func(v any, n int64, fill ...any) any { return padded(v, n, fill, true) },
	"gneiss_rpad":        func(v any, n int64, fill ...any) any { return padded(v, n, fill, false) },
	"gneiss_reverse":     ofText(reversed),
	"gneiss_initcap":     ofText(capitalized),
	"gneiss_starts_with": startsWith,
	"gneiss_split_part":  part,
	"gneiss_concat_ws":   joined,
	"gneiss_to_char":     formatted,
	"gneiss_make_date":   dateOf,
	"gneiss_shift":       shifted,
	"gneiss_replace":     replaced,
	"gneiss_strpos":      found,
	"gneiss_btrim":       func(v any, set ...any) any { return trimmed(v, set, true, true) },
	"gneiss_ltrim":       func(v any, set ...any) any { return trimmed(v, set, true, false) },
	"gneiss_rtrim":       func(v any, set ...any) any { return trimmed(v, set, false, true) },
}

// replaced, found and trimmed are SQLite's own replace, instr and trim, whose time grows
// with the product of their operands' lengths.
func replaced(v, from, to any) any {
	if null(v) || null(from) || null(to) {
		return nil
	}
	if text(from) == "" {
		return text(v)
	}
	s, old, by := text(v), text(from), text(to)
	if n := strings.Count(s, old); len(s)+n*(len(by)-len(old)) > mostValue {
		return nil
	}
	return strings.ReplaceAll(s, old, by)
}

func found(v, what any) any {
	if null(v) || null(what) {
		return nil
	}
	s := text(v)
	i := strings.Index(s, text(what))
	if i < 0 {
		return int64(0)
	}
	return int64(utf8.RuneCountInString(s[:i]) + 1)
}

func trimmed(v any, set []any, left, right bool) any {
	if null(v) || len(set) > 0 && null(set[0]) {
		return nil
	}
	chars := " "
	if len(set) > 0 {
		chars = text(set[0])
	}
	in := map[rune]bool{}
	for _, r := range chars {
		in[r] = true
	}
	s := text(v)
	if left {
		s = strings.TrimLeftFunc(s, func(r rune) bool { return in[r] })
	}
	if right {
		s = strings.TrimRightFunc(s, func(r rune) bool { return in[r] })
	}
	return s
}

// aggregates are those that SQLite lacks.
var aggregates = map[string]func() *spread{
	"gneiss_stddev_samp": func() *spread { return &spread{sample: 1, root: true} },
	"gneiss_stddev_pop":  func() *spread { return &spread{root: true} },
	"gneiss_var_samp":    func() *spread { return &spread{sample: 1} },
	"gneiss_var_pop":     func() *spread { return &spread{} },
}

// spread is a variance while it is worked out, by Welford's method.
type spread struct {
	n, sample  int
	mean, sum2 float64
	root       bool
}

// Step takes one more value; NULLs do not count.
func (s *spread) Step(v any) {
	var x float64
	switch v := v.(type) {
	case float64:
		x = v
	case int64:
		x = float64(v)
	default:
		return
	}
	s.n++
	d := x - s.mean
	s.mean += d / float64(s.n)
	s.sum2 += d * (x - s.mean)
}

// Done gives the result; NULL where there are too few values.
func (s *spread) Done() any {
	if s.n <= s.sample {
		return nil
	}
	v := s.sum2 / float64(s.n-s.sample)
	if s.root {
		v = math.Sqrt(v)
	}
	return finite(v)
}

func asNumber(v any) (float64, bool) {
	switch v := v.(type) {
	case float64:
		return v, true
	case int64:
		return float64(v), true
	}
	return 0, false
}

func ofNumber(f func(float64) float64) func(any) any {
	return func(v any) any {
		if x, ok := asNumber(v); ok {
			return finite(f(x))
		}
		return nil
	}
}

func power(v, exponent any) any {
	x, ok := asNumber(v)
	y, also := asNumber(exponent)
	if !ok || !also {
		return nil
	}
	return finite(math.Pow(x, y))
}

func truncated(v any, decimals ...any) any {
	n := int64(0)
	if len(decimals) > 0 {
		n, _ = decimals[0].(int64)
	}
	switch x := v.(type) {
	case int64:
		return x
	case float64:
		scale := math.Pow(10, float64(n))
		return finite(math.Trunc(x*scale) / scale)
	}
	return nil
}

func ofText(f func(string) string) func(any) any {
	return func(v any) any {
		if null(v) {
			return nil
		}
		return f(text(v))
	}
}

func reversed(s string) string {
	runes := []rune(s)
	for i, j := 0, len(runes)-1; i < j; i, j = i+1, j-1 {
		runes[i], runes[j] = runes[j], runes[i]
	}
	return string(runes)
}

// capitalized knows ASCII letters only, as lower and upper do here.
func capitalized(s string) string {
	inside := false
	return strings.Map(func(r rune) rune {
		was := inside
		inside = r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r))
		switch {
		case !was && r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case was && r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		}
		return r
	}, s)
}

func padded(v any, n int64, fill []any, left bool) any {
	with := " "
	if len(fill) > 0 {
		if null(fill[0]) {
			return nil
		}
		with = text(fill[0])
	}
	if null(v) {
		return nil
	}
	runes := []rune(text(v))
	if int64(len(runes)) >= n || with == "" {
		return string(runes[:min(int64(len(runes)), n)])
	}
	fills, missing := []rune(with), make([]rune, int(n)-len(runes))
	for i := range missing {
		missing[i] = fills[i%len(fills)]
	}
	if left {
		return string(missing) + string(runes)
	}
	return string(runes) + string(missing)
}

func startsWith(v, beginning any) any {
	if null(v) || null(beginning) {
		return nil
	}
	return strings.HasPrefix(text(v), text(beginning))
}

func part(v, between any, n int64) any {
	if null(v) || null(between) {
		return nil
	}
	parts := []string{text(v)}
	if text(between) != "" {
		parts = strings.Split(text(v), text(between))
	}
	if n > int64(len(parts)) {
		return ""
	}
	return parts[n-1]
}

func joined(between any, values ...any) any {
	if null(between) {
		return nil
	}
	var parts []string
	for _, v := range values {
		if !null(v) {
			parts = append(parts, text(v))
		}
	}
	return strings.Join(parts, text(between))
}

// moment reads a date or timestamp.
func moment(v any) (time.Time, bool) {
	for _, layout := range []string{time.DateOnly, time.DateTime} {
		if t, err := time.Parse(layout, text(v)); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

func formatted(v, form any) any {
	t, ok := moment(v)
	if !ok || null(form) {
		return nil
	}
	quarter := string(rune('1' + (int(t.Month())-1)/3))
	return strings.NewReplacer("YYYY", t.Format("2006"), "MM", t.Format("01"), "DD", t.Format("02"), "HH24", t.Format("15"),
		"MI", t.Format("04"), "SS", t.Format("05"), "Q", quarter).Replace(text(form))
}

func dateOf(year, month, day any) any {
	y, ok1 := year.(int64)
	m, ok2 := month.(int64)
	d, ok3 := day.(int64)
	if !ok1 || !ok2 || !ok3 || y < 1 || y > 9999 || m < 1 || m > 12 || d < 1 || d > 31 {
		return nil
	}
	t := time.Date(int(y), time.Month(m), int(d), 0, 0, 0, 0, time.UTC)
	if t.Day() != int(d) {
		return nil
	}
	return t.Format(time.DateOnly)
}

// shifted moves a moment by months, then days, then seconds. A day that a month
// lacks is its last.
func shifted(v any, months, days, seconds int64) any {
	t, ok := moment(v)
	if !ok {
		return nil
	}
	first := time.Date(t.Year(), t.Month()+time.Month(months), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
	last := first.AddDate(0, 1, -1).Day()
	t = first.AddDate(0, 0, min(t.Day(), last)-1).AddDate(0, 0, int(days)).Add(time.Duration(seconds) * time.Second)
	if t.Year() < 1 || t.Year() > 9999 {
		return nil
	}
	return t.Format(query.TimestampForm)
}
