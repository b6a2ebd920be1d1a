package catalog

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"gneiss/core/sqltype"
)

// A value is nil, bool, int64, float64, string, time.Time, *array or *record. What it stands for
// its type says.
type value = any

// An array has one dimension; its first place is low.
type array struct {
	items []value
	low   int64
}

func listOf(items ...value) *array { return &array{items, 1} }

// A record is a row value.
type record struct {
	names []string
	items []value
}

// An Error is one of a question about the catalog.
type Error struct {
	State string // SQLSTATE
	Text  string
	At    int32 // byte offset of the place; negative: none
}

func (e *Error) Error() string { return e.Text }

// fail stops with an error, which the package's entries return.
func fail(state string, at int32, format string, args ...any) {
	panic(&Error{state, fmt.Sprintf(format, args...), at})
}

// Types that are used here by name.
var (
	tBool    = sqltype.Boolean
	tInt2    = sqltype.Int2
	tInt4    = sqltype.Int4
	tInt8    = sqltype.Int8
	tFloat8  = sqltype.Float8
	tText    = sqltype.Text
	tName    = sqltype.Name
	tChar    = typeOfNumber(18)
	tOID     = typeOfNumber(26)
	tStamp   = sqltype.TimestampTZ
	tClass   = typeOfNumber(2205)
	tRegtype = typeOfNumber(2206)
	tNumeric = sqltype.Numeric
)

// number reports whether values of a type are int64 here.
func integral(t *sqltype.Type) bool {
	if t == nil {
		return false
	}
	switch t.OID {
	case 20, 21, 23, 26, 24, 2202, 2203, 2204, 2205, 2206, 3734, 3769, 4089, 4096, 4191, 28, 29, 5069:
		return true
	}
	return false
}

// registered reports whether a type is one of those that name an object by its number.
func registered(t *sqltype.Type) bool {
	switch t.OID {
	case 24, 2202, 2203, 2204, 2205, 2206, 3734, 3769, 4089, 4096, 4191:
		return true
	}
	return false
}

// text writes a value as PostgreSQL does.
func (q *run) text(v value, t *sqltype.Type) string {
	switch x := v.(type) {
	case string:
		return x
	case bool:
		if x {
			return "t"
		}
		return "f"
	case int64:
		if t != nil && registered(t) {
			return q.session.registeredName(x, t)
		}
		return strconv.FormatInt(x, 10)
	case float64:
		switch {
		case math.IsInf(x, 1):
			return "Infinity"
		case math.IsInf(x, -1):
			return "-Infinity"
		case math.IsNaN(x):
			return "NaN"
		}
		return strconv.FormatFloat(x, 'g', -1, 64)
	case time.Time:
		return x.UTC().Format("2006-01-02 15:04:05.999999-07")
	case *array:
		if t != nil && (t.OID == 22 || t.OID == 30) { // vectors
			parts := make([]string, len(x.items))
			for i, item := range x.items {
				parts[i] = q.text(item, nil)
			}
			return strings.Join(parts, " ")
		}
		var elem *sqltype.Type
		if t != nil {
			elem = t.Elem
		}
		parts := make([]string, len(x.items))
		for i, item := range x.items {
			parts[i] = "NULL"
			if item != nil {
				parts[i] = inArray(q.text(item, elem))
			}
		}
		return "{" + strings.Join(parts, ",") + "}"
	case *record:
		parts := make([]string, len(x.items))
		for i, item := range x.items {
			if item == nil {
				continue
			}
			if parts[i] = q.text(item, nil); parts[i] == "" || strings.ContainsAny(parts[i], `(),"\ `) {
				parts[i] = `"` + strings.NewReplacer(`"`, `""`, `\`, `\\`).Replace(parts[i]) + `"`
			}
		}
		return "(" + strings.Join(parts, ",") + ")"
	}
	return fmt.Sprint(v)
}

func inArray(text string) string {
	if text == "" || strings.ContainsAny(text, "{},\"\\ \t\n") || strings.EqualFold(text, "null") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
	}
	return text
}

// cast takes a value to a type.
func (q *run) cast(v value, from, to *sqltype.Type, at int32) value {
	if v == nil || to == nil || from == to && from != nil {
		return v
	}
	switch x := v.(type) {
	case *array:
		if to.Elem == nil {
			if to.Textual() {
				return q.text(v, from)
			}
			return v
		}
		out := &array{make([]value, len(x.items)), x.low}
		var elem *sqltype.Type
		if from != nil {
			elem = from.Elem
		}
		for i, item := range x.items {
			out.items[i] = q.cast(item, elem, to.Elem, at)
		}
		if to.OID == 22 || to.OID == 30 {
			out.low = 0
		}
		return out
	case *record:
		if to.Textual() {
			return q.text(v, from)
		}
		return v
	case string:
		return q.read(x, to, at)
	}
	switch {
	case to.Textual() || to.OID == 18:
		if from == tBool && to.Textual() {
			return map[string]string{"t": "true", "f": "false"}[q.text(v, from)]
		}
		return q.text(v, from)
	case to == tBool:
		if n, ok := v.(int64); ok {
			return n != 0
		}
	case integral(to):
		switch x := v.(type) {
		case float64:
			return int64(math.RoundToEven(x))
		case bool:
			if x {
				return int64(1)
			}
			return int64(0)
		}
	case to.Category == 'N':
		if n, ok := v.(int64); ok {
			return float64(n)
		}
	}
	return v
}

// read reads a text as a value of a type.
func (q *run) read(text string, to *sqltype.Type, at int32) value {
	trimmed := strings.TrimSpace(text)
	bad := func() value {
		fail("22P02", at, "invalid input syntax for type %s: %q", to, text)
		return nil
	}
	switch {
	case to.Elem != nil && to.Category == 'A':
		return q.readArray(trimmed, to, at)
	case to.OID == 22 || to.OID == 30:
		out := &array{low: 0}
		for _, part := range strings.Fields(trimmed) {
			n, err := strconv.ParseInt(part, 10, 64)
			if err != nil {
				return bad()
			}
			out.items = append(out.items, n)
		}
		return out
	case to == tBool:
		switch lower := strings.ToLower(trimmed); {
		case lower == "1" || lower == "on" || lower != "" && (strings.HasPrefix("true", lower) || strings.HasPrefix("yes", lower)):
			return true
		case lower == "0" || lower == "of" || lower == "off" || lower != "" && (strings.HasPrefix("false", lower) || strings.HasPrefix("no", lower)):
			return false
		}
		return bad()
	case registered(to):
		return q.session.registeredNumber(trimmed, to, at)
	case integral(to):
		n, err := strconv.ParseInt(trimmed, 10, 64)
		if err != nil {
			return bad()
		}
		return n
	case to.Category == 'N':
		x, err := strconv.ParseFloat(trimmed, 64)
		if err != nil {
			return bad()
		}
		return x
	case to.OID == 18:
		if len(text) > 1 {
			return text[:1]
		}
		return text
	case to == tName && len(text) > 63:
		return text[:63]
	}
	return text
}

func (q *run) readArray(text string, to *sqltype.Type, at int32) value {
	out := listOf()
	if len(text) < 2 || text[0] != '{' || text[len(text)-1] != '}' {
		fail("22P02", at, "malformed array literal: %q", text)
	}
	inner := text[1 : len(text)-1]
	for i := 0; i < len(inner); {
		var b strings.Builder
		quoted := false
		for ; i < len(inner) && inner[i] == ' '; i++ {
		}
		if i < len(inner) && inner[i] == '"' {
			quoted = true
			for i++; i < len(inner) && inner[i] != '"'; i++ {
				if inner[i] == '\\' {
					i++
				}
				if i < len(inner) {
					b.WriteByte(inner[i])
				}
			}
			i++
		} else {
			for ; i < len(inner) && inner[i] != ','; i++ {
				if inner[i] == '\\' && i+1 < len(inner) {
					i++
				}
				b.WriteByte(inner[i])
			}
		}
		item := b.String()
		if !quoted && strings.EqualFold(strings.TrimSpace(item), "null") {
			out.items = append(out.items, nil)
		} else {
			if !quoted {
				item = strings.TrimSpace(item)
			}
			out.items = append(out.items, q.read(item, to.Elem, at))
		}
		for ; i < len(inner) && inner[i] == ' '; i++ {
		}
		i++ // the comma
	}
	return out
}

// compare orders two values that are not nil.
func (q *run) compare(a, b value) int {
	switch x := a.(type) {
	case bool:
		if y, ok := b.(bool); ok {
			switch {
			case x == y:
				return 0
			case x:
				return 1
			}
			return -1
		}
	case int64:
		switch y := b.(type) {
		case int64:
			return cmp.Compare(x, y)
		case float64:
			return cmp.Compare(float64(x), y)
		}
	case float64:
		switch y := b.(type) {
		case int64:
			return cmp.Compare(x, float64(y))
		case float64:
			return cmp.Compare(x, y)
		}
	case string:
		if y, ok := b.(string); ok {
			return strings.Compare(x, y)
		}
	case time.Time:
		if y, ok := b.(time.Time); ok {
			return x.Compare(y)
		}
	case *array:
		if y, ok := b.(*array); ok {
			return q.compareLists(x.items, y.items)
		}
	case *record:
		if y, ok := b.(*record); ok {
			return q.compareLists(x.items, y.items)
		}
	}
	fail("42883", -1, "values of these types cannot be compared")
	return 0
}

func (q *run) compareLists(a, b []value) int {
	for i := range min(len(a), len(b)) {
		switch {
		case a[i] == nil && b[i] == nil:
		case a[i] == nil:
			return 1
		case b[i] == nil:
			return -1
		default:
			if c := q.compare(a[i], b[i]); c != 0 {
				return c
			}
		}
	}
	return cmp.Compare(len(a), len(b))
}

// key writes values so that equal ones, and only they, have equal keys.
func key(values ...value) string {
	var b strings.Builder
	for _, v := range values {
		switch x := v.(type) {
		case nil:
			b.WriteByte('n')
		case string:
			fmt.Fprintf(&b, "s%d:%s", len(x), x)
		case int64:
			fmt.Fprintf(&b, "i%d", x)
		case float64:
			if x == math.Trunc(x) && math.Abs(x) < 1<<53 {
				fmt.Fprintf(&b, "i%d", int64(x))
			} else {
				fmt.Fprintf(&b, "f%g", x)
			}
		case *array:
			fmt.Fprintf(&b, "a%d[%s]", len(x.items), key(x.items...))
		case *record:
			fmt.Fprintf(&b, "r%d(%s)", len(x.items), key(x.items...))
		default:
			fmt.Fprintf(&b, "o%v", x)
		}
		b.WriteByte(';')
	}
	return b.String()
}

// pattern makes a regular expression of one of PostgreSQL's.
func (q *run) pattern(text string, fold bool) *regexp.Regexp {
	at := text
	if fold {
		at = "(?i)" + at
	}
	if re, ok := q.patterns[at]; ok {
		return re
	}
	translated := strings.NewReplacer(`\m`, `\b`, `\M`, `\b`, `\y`, `\b`).Replace(strings.TrimPrefix(text, "***="))
	if strings.HasPrefix(text, "***=") {
		translated = regexp.QuoteMeta(translated)
	}
	if fold {
		translated = "(?i)" + translated
	}
	re, err := regexp.Compile("(?s)" + translated)
	if err != nil || len(text) > 10_000 {
		fail("2201B", -1, "invalid regular expression: %s", text[:min(len(text), 100)])
	}
	q.patterns[at] = re
	return re
}

// like matches a text with a pattern of LIKE.
func like(text, pattern string, fold bool) bool {
	if fold {
		text, pattern = strings.ToLower(text), strings.ToLower(pattern)
	}
	t, p := []rune(text), []rune(pattern)
	i, j, star, mark := 0, 0, -1, 0
	for i < len(t) {
		switch {
		case j < len(p) && p[j] == '%':
			star, mark = j, i
			j++
		case j < len(p) && p[j] == '\\' && j+1 < len(p) && p[j+1] == t[i]:
			i, j = i+1, j+2
		case j < len(p) && p[j] != '\\' && (p[j] == '_' || p[j] == t[i]):
			i, j = i+1, j+1
		case star >= 0:
			mark++
			i, j = mark, star+1
		default:
			return false
		}
	}
	for j < len(p) && p[j] == '%' {
		j++
	}
	return j == len(p)
}
