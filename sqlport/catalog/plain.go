package catalog

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"gneiss/core/sqltype"
)

// plain are the functions over texts, numbers and lists, which need nothing of the model.
var plain = map[string]function{
	"lower":        text1(func(s string) value { return strings.ToLower(s) }, tText),
	"upper":        text1(func(s string) value { return strings.ToUpper(s) }, tText),
	"length":       text1(func(s string) value { return int64(len([]rune(s))) }, tInt4),
	"char_length":  text1(func(s string) value { return int64(len([]rune(s))) }, tInt4),
	"octet_length": text1(func(s string) value { return int64(len(s)) }, tInt4),
	"reverse": text1(func(s string) value {
		r := []rune(s)
		for i, j := 0, len(r)-1; i < j; i, j = i+1, j-1 {
			r[i], r[j] = r[j], r[i]
		}
		return string(r)
	}, tText),
	"quote_ident":   text1(func(s string) value { return quoteIdent(s) }, tText),
	"quote_literal": text1(func(s string) value { return quoteLiteral(s) }, tText),
	"quote_nullable": {t: tText, least: 1, most: 1, nulls: true, do: func(q *run, a []value, k []*sqltype.Type) value {
		if a[0] == nil {
			return "NULL"
		}
		return quoteLiteral(q.str(a[0], k[0]))
	}},
	"format": {t: tText, least: 1, most: 100, nulls: true, do: format},
	"btrim":  trimmed(strings.Trim),
	"ltrim":  trimmed(strings.TrimLeft),
	"rtrim":  trimmed(strings.TrimRight),
	"concat": {t: tText, least: 1, most: 100, nulls: true, do: func(q *run, a []value, k []*sqltype.Type) value {
		return joined(q, a, k, "")
	}},
	"concat_ws": {t: tText, least: 1, most: 100, nulls: true, do: func(q *run, a []value, k []*sqltype.Type) value {
		if a[0] == nil {
			return nil
		}
		return joined(q, a[1:], k[1:], q.str(a[0], nil))
	}},
	"replace": {t: tText, least: 3, most: 3, do: func(q *run, a []value, k []*sqltype.Type) value {
		s, from := q.str(a[0], k[0]), q.str(a[1], k[1])
		if from == "" {
			return s
		}
		if n := strings.Count(s, from); len(s)+n*len(q.str(a[2], k[2])) > mostText {
			fail("54000", -1, "a text is longer than %d bytes", mostText)
		}
		return strings.ReplaceAll(s, from, q.str(a[2], k[2]))
	}},
	"translate": {t: tText, least: 3, most: 3, do: func(q *run, a []value, k []*sqltype.Type) value {
		from, to := []rune(q.str(a[1], k[1])), []rune(q.str(a[2], k[2]))
		return strings.Map(func(r rune) rune {
			for i, f := range from {
				if f == r && i < len(to) {
					return to[i]
				} else if f == r {
					return -1
				}
			}
			return r
		}, q.str(a[0], k[0]))
	}},
	"regexp_replace": {t: tText, least: 3, most: 4, do: func(q *run, a []value, k []*sqltype.Type) value {
		flags := ""
		if len(a) > 3 {
			flags = q.str(a[3], k[3])
		}
		re := q.pattern(q.str(a[1], k[1]), strings.Contains(flags, "i"))
		to := backReferences(q.str(a[2], k[2]))
		s := q.str(a[0], k[0])
		if strings.Contains(flags, "g") {
			return re.ReplaceAllString(s, to)
		}
		at := re.FindStringSubmatchIndex(s)
		if at == nil {
			return s
		}
		return s[:at[0]] + string(re.ExpandString(nil, to, s, at)) + s[at[1]:]
	}},
	"split_part": {t: tText, least: 3, most: 3, do: func(q *run, a []value, k []*sqltype.Type) value {
		parts := strings.Split(q.str(a[0], k[0]), q.str(a[1], k[1]))
		n := int(num(a[2]))
		if n < 0 {
			n += len(parts) + 1
		}
		if n < 1 || n > len(parts) {
			return ""
		}
		return parts[n-1]
	}},
	"strpos":    {t: tInt4, least: 2, most: 2, do: position},
	"position":  {t: tInt4, least: 2, most: 2, do: position},
	"substring": {t: tText, least: 2, most: 3, do: substring}, "substr": {t: tText, least: 2, most: 3, do: substring},
	"left": {t: tText, least: 2, most: 2, do: func(q *run, a []value, k []*sqltype.Type) value {
		r, n := []rune(q.str(a[0], k[0])), num(a[1])
		if n < 0 {
			n = max(0, int64(len(r))+n)
		}
		return string(r[:min(n, int64(len(r)))])
	}},
	"right": {t: tText, least: 2, most: 2, do: func(q *run, a []value, k []*sqltype.Type) value {
		r, n := []rune(q.str(a[0], k[0])), num(a[1])
		if n < 0 {
			n = max(0, int64(len(r))+n)
		}
		return string(r[int64(len(r))-min(n, int64(len(r))):])
	}},
	"repeat": {t: tText, least: 2, most: 2, do: func(q *run, a []value, k []*sqltype.Type) value {
		s, n := q.str(a[0], k[0]), num(a[1])
		if n <= 0 {
			return ""
		}
		if int64(len(s)) > 0 && n > mostText/int64(max(len(s), 1)) {
			fail("54000", -1, "a text is longer than %d bytes", mostText)
		}
		return strings.Repeat(s, int(n))
	}},
	"starts_with": {t: tBool, least: 2, most: 2, do: func(q *run, a []value, k []*sqltype.Type) value {
		return strings.HasPrefix(q.str(a[0], k[0]), q.str(a[1], k[1]))
	}},
	"abs": {like: first, least: 1, most: 1, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		switch n := a[0].(type) {
		case int64:
			return max(n, -n)
		case float64:
			return math.Abs(n)
		}
		return nil
	}},
	"round": {like: first, least: 1, most: 2, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		if x, ok := a[0].(float64); ok {
			scale := 1.0
			if len(a) > 1 {
				scale = math.Pow(10, float64(num(a[1])))
			}
			return math.Round(x*scale) / scale
		}
		return a[0]
	}},
	"mod": {like: first, least: 2, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value { return q.operate("%", a[0], a[1]) }},
	"array_to_string": {t: tText, least: 2, most: 3, nulls: true, do: func(q *run, a []value, k []*sqltype.Type) value {
		list, ok := a[0].(*array)
		if !ok || a[1] == nil {
			return nil
		}
		var elem *sqltype.Type
		if k[0] != nil {
			elem = k[0].Elem
		}
		var parts []string
		for _, item := range list.items {
			switch {
			case item != nil:
				parts = append(parts, q.text(item, elem))
			case len(a) > 2 && a[2] != nil:
				parts = append(parts, q.str(a[2], k[2]))
			}
		}
		return strings.Join(parts, q.str(a[1], k[1]))
	}},
	"string_to_array": {t: tText.Array, least: 2, most: 3, nulls: true, do: func(q *run, a []value, k []*sqltype.Type) value {
		if a[0] == nil || a[1] == nil {
			return nil
		}
		out := listOf()
		if s := q.str(a[0], k[0]); s != "" {
			for _, part := range strings.Split(s, q.str(a[1], k[1])) {
				out.items = append(out.items, part)
			}
		}
		return out
	}},
	"array_length": {t: tInt4, least: 2, most: 2, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		if list, ok := a[0].(*array); ok && num(a[1]) == 1 && len(list.items) > 0 {
			return int64(len(list.items))
		}
		return nil
	}},
	"array_upper": {t: tInt4, least: 2, most: 2, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		if list, ok := a[0].(*array); ok && num(a[1]) == 1 && len(list.items) > 0 {
			return list.low + int64(len(list.items)) - 1
		}
		return nil
	}},
	"array_lower": {t: tInt4, least: 2, most: 2, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		if list, ok := a[0].(*array); ok && num(a[1]) == 1 && len(list.items) > 0 {
			return list.low
		}
		return nil
	}},
	"cardinality": {t: tInt4, least: 1, most: 1, do: func(_ *run, a []value, _ []*sqltype.Type) value {
		if list, ok := a[0].(*array); ok {
			return int64(len(list.items))
		}
		return nil
	}},
	"array_position": {t: tInt4, least: 2, most: 2, nulls: true, do: func(q *run, a []value, _ []*sqltype.Type) value {
		list, ok := a[0].(*array)
		if !ok {
			return nil
		}
		for i, item := range list.items {
			if item == nil && a[1] == nil || item != nil && a[1] != nil && q.compare(item, a[1]) == 0 {
				return list.low + int64(i)
			}
		}
		return nil
	}},
	"array_append": {like: first, least: 2, most: 2, nulls: true, do: func(q *run, a []value, _ []*sqltype.Type) value {
		if list, ok := a[0].(*array); ok {
			return listOf(append(append([]value{}, list.items...), a[1])...)
		}
		return listOf(a[1])
	}},
	"array_cat": {like: first, least: 2, most: 2, do: func(q *run, a []value, _ []*sqltype.Type) value {
		return q.operate("||", a[0], a[1])
	}},
	"json_build_object":  {t: sqltype.JSON, most: 100, nulls: true, do: jsonObject},
	"jsonb_build_object": {t: sqltype.JSON, most: 100, nulls: true, do: jsonObject},
	"pg_typeof": {t: tRegtype, least: 1, most: 1, nulls: true, do: func(_ *run, _ []value, k []*sqltype.Type) value {
		if k[0] == nil {
			return int64(705)
		}
		return int64(k[0].OID)
	}},
}

func jsonObject(q *run, a []value, k []*sqltype.Type) value {
	var b strings.Builder
	b.WriteByte('{')
	for i := 0; i+1 < len(a); i += 2 {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(jsonText(q.str(a[i], k[i])) + " : ")
		switch v := a[i+1].(type) {
		case nil:
			b.WriteString("null")
		case bool:
			b.WriteString(strconv.FormatBool(v))
		case int64, float64:
			b.WriteString(q.text(v, nil))
		default:
			b.WriteString(jsonText(q.text(v, k[i+1])))
		}
	}
	return b.String() + "}"
}

func jsonText(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

func trimmed(f func(s, set string) string) function {
	return function{t: tText, least: 1, most: 2, do: func(q *run, a []value, k []*sqltype.Type) value {
		set := " "
		if len(a) > 1 {
			set = q.str(a[1], k[1])
		}
		return f(q.str(a[0], k[0]), set)
	}}
}

func joined(q *run, a []value, k []*sqltype.Type, sep string) string {
	var parts []string
	for i, v := range a {
		if v != nil {
			parts = append(parts, q.text(v, k[i]))
		}
	}
	return strings.Join(parts, sep)
}

func position(q *run, a []value, k []*sqltype.Type) value {
	s := q.str(a[0], k[0])
	i := strings.Index(s, q.str(a[1], k[1]))
	if i < 0 {
		return int64(0)
	}
	return int64(len([]rune(s[:i])) + 1)
}

func substring(q *run, a []value, k []*sqltype.Type) value {
	s := q.str(a[0], k[0])
	if pattern, ok := a[1].(string); ok && len(a) == 2 && k[1] != nil && k[1].Textual() {
		m := q.pattern(pattern, false).FindStringSubmatch(s)
		switch {
		case m == nil:
			return nil
		case len(m) > 1:
			return m[1]
		}
		return m[0]
	}
	r := []rune(s)
	from := num(a[1]) - 1
	to := int64(len(r))
	if len(a) > 2 {
		to = min(to, from+num(a[2]))
	}
	from = max(from, 0)
	if from >= to {
		return ""
	}
	return string(r[from:to])
}

// backReferences writes a replacement of PostgreSQL's as one of package regexp's.
func backReferences(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '$':
			b.WriteString("$$")
		case text[i] == '\\' && i+1 < len(text):
			i++
			switch ch := text[i]; {
			case ch >= '0' && ch <= '9':
				fmt.Fprintf(&b, "${%c}", ch)
			case ch == '&':
				b.WriteString("${0}")
			default:
				b.WriteByte(ch)
			}
		default:
			b.WriteByte(text[i])
		}
	}
	return b.String()
}

// quoteIdent writes a name as SQL takes it.
func quoteIdent(name string) string {
	if name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_") == "" && (name[0] < '0' || name[0] > '9') && !reserved[name] {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// reserved are words that have to be in quotes as names.
var reserved = map[string]bool{}

func init() {
	for _, word := range strings.Fields("all analyse analyze and any array as asc asymmetric both case cast check collate column constraint create current_date " +
		"current_role current_time current_timestamp current_user default deferrable desc distinct do else end except false fetch for foreign from grant group " +
		"having in initially intersect into lateral leading limit localtime localtimestamp not null offset on only or order placing primary references " +
		"returning select session_user some symmetric table then to trailing true union unique user using variadic when where window with authorization " +
		"binary collation concurrently cross current_schema freeze full ilike inner is isnull join left like natural notnull outer overlaps right similar") {
		reserved[word] = true
	}
}

// quoteLiteral writes a text as SQL takes it.
func quoteLiteral(text string) string {
	quoted := "'" + strings.ReplaceAll(strings.ReplaceAll(text, "'", "''"), `\`, `\\`) + "'"
	if strings.Contains(text, `\`) {
		return "E" + quoted
	}
	return quoted
}

// format writes its operands as a template says, as PostgreSQL's function of this name does:
// %[position$][-][width]{s|I|L|%}.
func format(q *run, a []value, k []*sqltype.Type) value {
	if a[0] == nil {
		return nil
	}
	var b strings.Builder
	next := 1
	operand := func(n int) (value, *sqltype.Type) {
		if n < 1 || n >= len(a) {
			fail("22023", -1, "too few arguments for format()")
		}
		return a[n], k[n]
	}
	text := q.str(a[0], k[0])
	for {
		before, rest, found := strings.Cut(text, "%")
		b.WriteString(before)
		if b.Len() > mostText {
			fail("54000", -1, "a text is longer than %d bytes", mostText)
		}
		if !found {
			return b.String()
		}
		place, width, left := 0, 0, false
		if n, after := digits(rest); n > 0 && strings.HasPrefix(after, "$") {
			place, rest = n, after[1:]
		}
		if after, ok := strings.CutPrefix(rest, "-"); ok {
			left, rest = true, after
		}
		if after, ok := strings.CutPrefix(rest, "*"); ok {
			v, _ := operand(next)
			width, rest, next = int(num(v)), after, next+1
			left = left || width < 0
		} else {
			width, rest = digits(rest)
		}
		width = max(width, -width)
		if width > mostText {
			fail("54000", -1, "a text is longer than %d bytes", mostText)
		}
		if rest == "" {
			fail("22023", -1, "unterminated format() type specifier")
		}
		kind := rest[0]
		text = rest[1:]
		if kind == '%' {
			b.WriteByte('%')
			continue
		}
		if place > 0 {
			next = place
		}
		var out string
		switch v, t := operand(next); {
		case kind != 's' && kind != 'I' && kind != 'L':
			fail("22023", -1, "unrecognized format() type specifier \"%c\"", kind)
		case v == nil && kind == 'I':
			fail("22004", -1, "null values cannot be formatted as an SQL identifier")
		case v == nil && kind == 'L':
			out = "NULL"
		case v == nil:
		case kind == 'I':
			out = quoteIdent(q.str(v, t))
		case kind == 'L':
			out = quoteLiteral(q.str(v, t))
		default:
			out = q.str(v, t)
		}
		next++
		pad := strings.Repeat(" ", max(0, width-len([]rune(out))))
		if left {
			b.WriteString(out + pad)
		} else {
			b.WriteString(pad + out)
		}
	}
}

// digits reads the number that a text begins with, mostText+1 at the most, and gives the rest.
func digits(text string) (n int, rest string) {
	i := 0
	for ; i < len(text) && text[i] >= '0' && text[i] <= '9'; i++ {
		n = min(n*10+int(text[i]-'0'), mostText+1)
	}
	return n, text[i:]
}
