package sqltype

import (
	"strconv"
	"strings"
)

// The bits by which PostgreSQL keeps the fields that an interval type is restricted to.
const (
	month, year, day, hour, minute, second = 1 << 1, 1 << 2, 1 << 3, 1 << 10, 1 << 11, 1 << 12

	allFields    = 0x7FFF
	allPrecision = 0xFFFF
)

var intervalFields = map[int32]string{
	year: "year", month: "month", day: "day", hour: "hour", minute: "minute", second: "second", year | month: "year to month",
	day | hour: "day to hour", day | hour | minute: "day to minute", day | hour | minute | second: "day to second",
	hour | minute: "hour to minute", hour | minute | second: "hour to second", minute | second: "minute to second", allFields: "",
}

// IntervalFields are the fields of an interval type in words, "day to second", by PostgreSQL's bits for them;
// empty: all of them.
func IntervalFields(bits int32) (words string, ok bool) {
	words, ok = intervalFields[bits]
	return words, ok
}

// intervalModifier is Modifier of an interval type: "interval day to second(3)".
func intervalModifier(declared string) int32 {
	head, precision, _ := strings.Cut(strings.TrimSuffix(declared, "[]"), "(")
	words := strings.TrimSpace(strings.TrimPrefix(head, "interval"))
	n, err := strconv.Atoi(strings.TrimSuffix(precision, ")"))
	if err != nil {
		n = allPrecision
	}
	for bits, of := range intervalFields {
		if of == words && (bits != allFields || n != allPrecision) {
			return bits<<16 | int32(n)
		}
	}
	return -1
}

// intervalModifierText is ModifierText of an interval type: "day to second(3)".
func intervalModifierText(modifier int64) string {
	words := intervalFields[int32(modifier>>16)&allFields]
	if n := modifier & allPrecision; n != allPrecision {
		words += "(" + strconv.FormatInt(n, 10) + ")"
	}
	return words
}
