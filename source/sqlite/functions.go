package sqlite

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/mattn/go-sqlite3"

	"gneiss/core/policy"
	"gneiss/core/query"
)

// register puts Gneiss's functions on a connection. None of them fails: what
// cannot be converted or treated is NULL.
func register(conn *sqlite3.SQLiteConn) error {
	for name, f := range map[string]any{
		"gneiss_bigint":    toBigint,
		"gneiss_double":    toDouble,
		"gneiss_boolean":   toBoolean,
		"gneiss_date":      func(v any) any { return toTime(v, time.DateOnly) },
		"gneiss_timestamp": func(v any) any { return toTime(v, query.TimestampForm) },
		"gneiss_text":      numberText,
		"gneiss_mask":      mask,
		"gneiss_pseudonym": pseudonym,
		"gneiss_round":     round,
		"gneiss_bucket":    bucket,
		"gneiss_noise":     noise,
	} {
		if err := conn.RegisterFunc(name, f, true); err != nil {
			return err
		}
	}
	for name, f := range library {
		if err := conn.RegisterFunc(name, f, true); err != nil {
			return err
		}
	}
	for name, f := range aggregates {
		if err := conn.RegisterAggregator(name, f, true); err != nil {
			return err
		}
	}
	return nil
}

func toBigint(v any) any {
	if n, err := strconv.ParseInt(strings.TrimSpace(text(v)), 10, 64); err == nil {
		return n
	}
	return nil
}

func toDouble(v any) any {
	// ParseFloat takes more than SQL does: hexadecimal, underscores, NaN.
	s := strings.TrimSpace(text(v))
	if strings.Trim(s, "+-0123456789.eE") != "" {
		return nil
	}
	if x, err := strconv.ParseFloat(s, 64); err == nil {
		return x
	}
	return nil
}

func toBoolean(v any) any {
	switch strings.ToLower(strings.TrimSpace(text(v))) {
	case "t", "true", "yes", "on", "1":
		return int64(1)
	case "f", "false", "no", "off", "0":
		return int64(0)
	}
	return nil
}

func toTime(v any, layout string) any {
	t, ok := query.ReadTime(text(v))
	switch {
	case !ok:
		return nil
	case layout == query.TimestampForm:
		t = t.Round(time.Microsecond)
	}
	return t.Format(layout)
}

// text gives a value as text; of NULL, the empty text, which converts to
// nothing.
func text(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []byte:
		return string(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return numeral(v)
	}
	return ""
}

// numeral writes a number as PostgreSQL does: with an exponent where it is less
// than -4 or has more than 15 digits before the point.
func numeral(x float64) string {
	if abs := math.Abs(x); abs != 0 && (abs < 1e-4 || abs >= 1e15) {
		return strconv.FormatFloat(x, 'e', -1, 64)
	}
	return strconv.FormatFloat(x, 'f', -1, 64)
}

func numberText(v any) any {
	if null(v) {
		return nil
	}
	return text(v)
}

// null reports whether the driver gave NULL, which it hands on as no bytes.
func null(v any) bool {
	b, isBytes := v.([]byte)
	return v == nil || isBytes && b == nil
}

func mask(v any, first, last int64, fill, keep string) any {
	if null(v) {
		return nil
	}
	return policy.Treatment{Kind: policy.Mask, KeepFirst: int(first), KeepLast: int(last), Fill: fill, Keep: keep}.MaskText(text(v))
}

// round rounds halves away from zero, to decimals or to multiples.
func round(v any, decimals int64, multiple float64) any {
	switch x := v.(type) {
	case int64:
		m := int64(multiple)
		if m < 1 {
			return nil
		}
		rest := x % m
		switch down := x - rest; {
		case rest*2 >= m && rest > 0:
			return down + m
		case -rest*2 >= m && rest < 0:
			return down - m
		default:
			return down
		}
	case float64:
		if multiple > 0 {
			return finite(math.Round(x/multiple) * multiple)
		}
		scale := math.Pow(10, float64(decimals))
		return finite(math.Round(x*scale) / scale)
	}
	return nil
}

// bucket gives the lower end of the bucket that a number falls in.
func bucket(v any, width float64) any {
	switch x := v.(type) {
	case int64:
		w := int64(width)
		if w < 1 {
			return nil
		}
		rest := x % w
		if rest < 0 {
			rest += w
		}
		return x - rest
	case float64:
		return finite(math.Floor(x/width) * width)
	}
	return nil
}

// noise moves a value by at most width either way; of dates, by days. The amount
// is made by HMAC-SHA-256 under the secret from the column, the value and the key
// of its row, so that it is one amount however often a query asks for it.
func noise(v any, width float64, secret string, column int64, row ...any) any {
	h := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(h, "%d", column)
	for _, k := range append([]any{v}, row...) {
		fmt.Fprintf(h, "|%s", text(k))
	}
	n := int64(binary.BigEndian.Uint64(h.Sum(nil)) >> 11)
	steps := int64(min(width, 1e15))
	whole := n%(2*steps+1) - steps
	switch x := v.(type) {
	case int64:
		if moved := x + whole; (moved > x) == (whole > 0) {
			return moved
		}
		return x - whole // past the greatest or least number
	case float64:
		return finite(x + (float64(n)/(1<<52)-1)*width)
	case string:
		for _, layout := range []string{time.DateOnly, query.TimestampForm} {
			t, err := time.Parse(layout, x)
			if err != nil {
				continue
			}
			for _, days := range []int{int(whole), -int(whole)} {
				if moved := t.AddDate(0, 0, days); moved.Year() >= 1 && moved.Year() <= 9999 {
					return moved.Format(layout)
				}
			}
		}
	}
	return nil
}

// finite is NULL in place of what is no number.
func finite(x float64) any {
	if math.IsInf(x, 0) || math.IsNaN(x) {
		return nil
	}
	return x
}

// pseudonym is HMAC-SHA-256 under the key. A text becomes 32 hexadecimal digits
// of it, a whole number one of 53 bits, which every JSON reader keeps exact.
func pseudonym(v any, key string) any {
	if null(v) {
		return nil
	}
	h := hmac.New(sha256.New, []byte(key))
	h.Write([]byte(text(v)))
	sum := h.Sum(nil)
	if _, isInt := v.(int64); isInt {
		return int64(binary.BigEndian.Uint64(sum) >> 11)
	}
	return hex.EncodeToString(sum[:16])
}
