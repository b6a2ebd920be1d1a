package sqlite

import (
	"fmt"
	"math"
	"strings"
	"time"
	"unicode/utf8"

	"gneiss/core/query"
	"gneiss/source"
)

// values brings a row that the driver gives to the columns' types. SQLite has no truth values and no dates of its own, and
// lets a table hold values that are not of their column's type. There is no right answer with such a value in it, so it is
// an error.
func values(row []any, columns []query.Column) error {
	for i, c := range columns {
		v, ok := value(row[i], c.Type)
		if !ok {
			return notOfType(row[i], c)
		}
		row[i] = v
	}
	return nil
}

// notOfType is the error of an answer whose column has a value that is not of its type.
func notOfType(v any, c query.Column) error {
	if x, ok := v.(float64); ok && c.Type == query.Bigint && math.Abs(x) >= 1<<63 {
		return &source.Unfit{Text: "bigint out of range", SQLState: "22003"}
	}
	text := fmt.Sprintf("the column %s holds a value that is not of type %s, which SQLite allows", quote(c.Name), c.Type)
	if c.Type != query.Text {
		text += "; cast the column to text to read it"
	}
	return &source.Unfit{Text: text, SQLState: "22P02"}
}

// value brings a value to a type; ok is false where it is not of that type.
func value(v any, t query.Type) (out any, ok bool) {
	if t == nil {
		return v, true
	}
	switch x := v.(type) {
	case nil:
		return nil, true
	case int64:
		switch t {
		case query.Boolean:
			return x == 1, x == 0 || x == 1
		case query.Double:
			return float64(x), true
		}
		return x, t == query.Bigint
	case float64:
		if math.IsInf(x, 0) || math.IsNaN(x) {
			return nil, true // which JSON has no word for
		}
		return x, t == query.Double
	case string:
		switch t {
		case query.Text:
			return x, utf8.ValidString(x) && !strings.Contains(x, "\x00")
		case query.Date:
			return x, isDate(x)
		case query.Timestamp:
			return x, isTimestamp(x)
		}
	}
	return nil, false
}

// isDate reports whether a text is a date in the form in which PostgreSQL writes it.
func isDate(s string) bool {
	_, err := time.Parse(time.DateOnly, s)
	return err == nil && len(s) == len(time.DateOnly) && s >= "0001"
}

// isTimestamp is isDate for a timestamp: its seconds have up to six digits behind the point, the last of which is no 0.
func isTimestamp(s string) bool {
	at := len(time.DateTime)
	if len(s) > at && (s[at] != '.' || len(s) > at+7 || s[len(s)-1] == '0') {
		return false
	}
	_, err := time.Parse(time.DateTime, s)
	return err == nil && len(s) >= at && s >= "0001"
}
