package sqlport

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

func known(values ...string) func(string) (string, error) {
	return func(v string) (string, error) {
		for _, k := range values {
			if strings.EqualFold(k, v) {
				return k, nil
			}
		}
		return "", statef("22023", "is one of %s here", strings.Join(values, ", "))
	}
}

func truth(v string) (string, error) {
	switch strings.ToLower(v) {
	case "on", "true", "yes", "1", "t", "y":
		return "on", nil
	case "off", "false", "no", "0", "f", "n":
		return "off", nil
	}
	return "", statef("22023", "is on or off")
}

func whole(low, high int) func(string) (string, error) {
	return func(v string) (string, error) {
		n, err := strconv.Atoi(v)
		if err != nil || n < low || n > high {
			return "", statef("22023", "is a whole number from %d to %d", low, high)
		}
		return v, nil
	}
}

func anything(most int) func(string) (string, error) {
	return func(v string) (string, error) {
		if len(v) > most {
			return "", statef("22023", "can have up to %d bytes", most)
		}
		return strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return '?'
			}
			return r
		}, strings.ToValidUTF8(v, "?")), nil
	}
}

// span reads a time with a unit, milliseconds where there is none.
func span(v string) (string, error) {
	if _, err := duration(v); err != nil {
		return "", err
	}
	return shownSpan(v), nil
}

// shownSpan writes a time as PostgreSQL shows it, in the largest unit of which it is a whole number.
func shownSpan(v string) string {
	d, err := duration(v)
	if err != nil || d == 0 {
		return "0"
	}
	for _, unit := range []struct {
		name string
		of   time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"min", time.Minute}, {"s", time.Second}} {
		if d%unit.of == 0 {
			return strconv.FormatInt(int64(d/unit.of), 10) + unit.name
		}
	}
	return strconv.FormatInt(d.Milliseconds(), 10) + "ms"
}

func duration(v string) (time.Duration, error) {
	text := strings.ReplaceAll(strings.TrimSpace(v), " ", "")
	unit := strings.TrimLeft(text, "0123456789.")
	n, err := strconv.ParseFloat(strings.TrimSuffix(text, unit), 64)
	per, ok := map[string]time.Duration{"": time.Millisecond, "us": time.Microsecond, "ms": time.Millisecond, "s": time.Second,
		"min": time.Minute, "h": time.Hour, "d": 24 * time.Hour}[unit]
	if err != nil || !ok || n < 0 || n*float64(per) > float64(1000*time.Hour) {
		return 0, statef("22023", "is a time, such as 30s or 500ms")
	}
	return time.Duration(n * float64(per)), nil
}

func zone(v string) (string, error) {
	_, name, err := location(v)
	return name, err
}

var numericZone = regexp.MustCompile(`^<([+-][0-9]+)>[+-][0-9]+$`)

// location finds a time zone by its name, or by its hours from UTC.
func location(v string) (*time.Location, string, error) {
	if m := numericZone.FindStringSubmatch(v); m != nil { // as it is shown: <+05>-05
		v = m[1]
	}
	if hours, err := strconv.ParseFloat(v, 64); err == nil && hours >= -16 && hours <= 16 {
		name := fmt.Sprintf("<%+03d>%+03d", int(hours), -int(hours))
		return time.FixedZone(name, int(hours*3600)), name, nil
	}
	if strings.EqualFold(v, "default") || strings.EqualFold(v, "local") {
		v = "UTC"
	}
	for _, name := range []string{v, strings.ToUpper(v)} {
		if l, err := time.LoadLocation(name); err == nil && name != "" && name != "Local" {
			return l, name, nil
		}
	}
	return nil, "", statef("22023", "is the name of a time zone, such as Europe/Oslo; %q is none", printable(v, 40))
}

// dateStyle takes ISO with an order of day, month and year.
func dateStyle(v string) (string, error) {
	order := "MDY"
	for _, part := range strings.Split(v, ",") {
		switch part = strings.ToUpper(strings.TrimSpace(part)); part {
		case "ISO", "DEFAULT":
		case "MDY", "US", "NONEURO", "NONEUROPEAN":
			order = "MDY"
		case "DMY", "EURO", "EUROPEAN":
			order = "DMY"
		case "YMD":
			order = "YMD"
		default:
			return "", statef("0A000", "is ISO here, with MDY, DMY or YMD")
		}
	}
	return "ISO, " + order, nil
}

func encoding(v string) (string, error) {
	switch strings.ToUpper(strings.NewReplacer("-", "", "_", "", "'", "").Replace(v)) {
	case "UTF8", "UNICODE", "":
		return "UTF8", nil
	case "SQLASCII":
		return "SQL_ASCII", nil
	}
	return "", statef("0A000", "is UTF8 here")
}
