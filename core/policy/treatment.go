package policy

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A TreatmentKind is a technique of de-identification (ISO/IEC 20889), or of
// withholding. The kinds are ordered: a greater one is stricter.
type TreatmentKind uint8

const (
	Clear      TreatmentKind = iota // as it is
	Expression                      // what a SQL expression over the row gives
	Noise                           // moved by a random amount
	Round                           // to decimals, or to multiples of a number
	Generalize                      // a number to a bucket, a date to a period, a text to a prefix or a group
	Mask                            // part kept, the rest filled
	Pseudonym                       // a keyed hash: equal values stay equal
	Constant                        // a value that is given
	Suppress                        // NULL
	Blank                           // withheld: the column is there and always NULL
	Absent                          // withheld: the column does not exist
	Refuse                          // withheld: naming the column is refused
)

var treatmentNames = [...]string{"clear", "expression", "noise", "round", "generalize", "mask", "pseudonym", "constant", "suppress",
	"withhold blank", "withhold absent", "withhold refuse"}

// Treatments lists the kinds of treatments but Clear, the strictest first.
func Treatments() []TreatmentKind {
	var kinds []TreatmentKind
	for k := Refuse; k > Clear; k-- {
		kinds = append(kinds, k)
	}
	return kinds
}

// treatedTypes are the types that a kind works on; one that is not listed works on all.
var treatedTypes = map[TreatmentKind][]string{
	Mask:       texts,
	Pseudonym:  append([]string{"bigint", "integer", "smallint", "uuid"}, texts...),
	Noise:      append(slices.Clone(numbers), dates...),
	Round:      numbers,
	Generalize: slices.Concat(texts, numbers, dates),
}

// The types by what a treatment can do with their values.
var (
	texts   = []string{"text", "character varying", "character", "name"}
	numbers = []string{"double precision", "bigint", "numeric", "integer", "smallint", "real"}
	whole   = []string{"bigint", "integer", "smallint"}
	dates   = []string{"date", "timestamp", "timestamp with time zone"}
)

// baseType is the name of a type in its one spelling, without a length or precision.
func baseType(typ string) string {
	if t := sqltype.Parse(typ); t != nil {
		return t.Name
	}
	return sqltype.Shown(typ)
}

// Types lists the types of columns that the kind can work on; nil: all.
func (k TreatmentKind) Types() []string { return treatedTypes[k] }

// Says is what the kind does, in words.
func (k TreatmentKind) Says() string {
	return [...]string{Clear: "in clear", Expression: "replaced by what an expression gives", Noise: "blurred: moved by a random amount",
		Round: "rounded", Generalize: "generalized: to a bucket, a period, a beginning or a group", Mask: "masked: part kept, the rest filled",
		Pseudonym: "replaced by a pseudonym: equal values stay equal", Constant: "replaced by one value", Suppress: "suppressed: NULL",
		Blank:  "withheld and blank: the column is there and always NULL, so reports keep working",
		Absent: "withheld as if absent: the column does not exist", Refuse: "withheld and refused: naming the column is an error"}[k]
}

func (k TreatmentKind) String() string { return treatmentNames[k] }

// Withheld reports whether the column is not there for the reader, by any name.
func (k TreatmentKind) Withheld() bool { return k == Absent || k == Refuse }

// A Treatment says what a reader gets in place of a value.
type Treatment struct {
	Kind      TreatmentKind `json:"-"`
	KeepFirst int           `json:"keep_first,omitempty"` // mask: characters kept at the start
	KeepLast  int           `json:"keep_last,omitempty"`  // mask: characters kept at the end
	Fill      string        `json:"fill,omitempty"`       // mask: the character for the others; * when empty
	Keep      string        `json:"keep,omitempty"`       // mask: characters kept wherever they stand
	Value     string        `json:"value,omitempty"`      // constant: as it is written
	Bucket    float64       `json:"bucket,omitempty"`     // generalize: the width, of numbers
	Unit      string        `json:"unit,omitempty"`       // generalize: month, quarter or year, of dates
	Prefix    int           `json:"prefix,omitempty"`     // generalize: characters kept, of texts
	Mapping   Mapping       `json:"mapping,omitempty"`    // generalize: the group of each text
	Decimals  int           `json:"decimals,omitempty"`   // round: decimal places
	Multiple  float64       `json:"multiple,omitempty"`   // round: to multiples of this instead
	Range     float64       `json:"range,omitempty"`      // noise: moves at most so far either way; of dates, in days
	Stable    bool          `json:"stable,omitempty"`     // noise: the same at each query
	SQL       string        `json:"sql,omitempty"`        // expression
	Paths     string        `json:"paths,omitempty"`      // of a document: which of its values, with commas: contact.phone
}

// NewTreatment makes a treatment from its kind's name and checks its arguments.
func NewTreatment(kind string, args Treatment) (Treatment, error) {
	t := args
	name := strings.ReplaceAll(strings.ToLower(strings.TrimSpace(kind)), "-", " ")
	t.Kind = TreatmentKind(max(slices.Index(treatmentNames[:], name), 0))
	if t.Kind == Clear {
		return t, &access.NotFound{Kind: "treatment", Name: kind, Known: treatmentNames[1:]}
	}
	if foreign := t.foreign(); foreign != "" {
		return t, invalid("bad_treatment", "%s takes no %s", t.Kind, foreign)
	}
	switch {
	case t.KeepFirst < 0 || t.KeepLast < 0:
		return t, invalid("bad_treatment", "a mask cannot keep fewer than 0 characters")
	case utf8.RuneCountInString(t.Fill) > 1:
		return t, invalid("bad_treatment", "a mask fills with one character, not with %q", t.Fill)
	case t.Bucket < 0 || t.Multiple < 0 || t.Prefix < 0 || math.IsInf(t.Bucket+t.Multiple, 0) || math.IsNaN(t.Bucket+t.Multiple):
		return t, invalid("bad_treatment", "a bucket, a prefix and a multiple are numbers above zero")
	case t.Decimals < -15 || t.Decimals > 15:
		return t, invalid("bad_treatment", "round takes from -15 to 15 decimals")
	case t.Decimals != 0 && t.Multiple != 0:
		return t, invalid("bad_treatment", "round takes decimals or a multiple, not both")
	case t.Unit != "" && !slices.Contains(units, t.Unit):
		return t, &access.NotFound{Kind: "period", Name: t.Unit, Known: units}
	case t.Kind == Generalize && t.Bucket == 0 && t.Unit == "" && t.Prefix == 0 && t.Mapping == "":
		return t, invalid(
			"bad_treatment",
			"generalize needs a bucket for numbers, a unit (month, quarter, year) for dates, or a prefix or a mapping for texts",
		)
	case t.Prefix != 0 && t.Mapping != "":
		return t, invalid("bad_treatment", "generalize takes a prefix or a mapping, not both")
	case t.Kind == Noise && !(t.Range > 0 && t.Range <= 1e15):
		return t, invalid("bad_treatment", "noise needs a range above zero: how far a value may be moved either way")
	case t.Kind == Expression && strings.TrimSpace(t.SQL) == "":
		return t, invalid("bad_treatment", "expression needs the SQL that gives the value, such as upper(left(name, 1))")
	}
	if err := t.checkPaths(); err != nil {
		return t, err
	}
	if err := t.Mapping.check(); err != nil {
		return t, err
	}
	if t.Kind == Mask && t.Fill == "" {
		t.Fill = "*"
	}
	return t, nil
}

// withPaths are the kinds that treat values within documents.
var withPaths = []TreatmentKind{Mask, Pseudonym, Constant, Suppress}

// mostPaths bounds the paths of one treatment.
const mostPaths = 20

// PathList lists the paths of a treatment of documents, each by its steps.
func (t Treatment) PathList() [][]string {
	var out [][]string
	for _, path := range strings.Split(t.Paths, ",") {
		if path = strings.TrimSpace(path); path != "" {
			out = append(out, strings.Split(path, "."))
		}
	}
	return out
}

func (t Treatment) checkPaths() error {
	if t.Paths == "" {
		return nil
	}
	list := t.PathList()
	if !slices.Contains(withPaths, t.Kind) {
		return invalid("bad_treatment", "%s takes no paths; mask, pseudonym, constant and suppress do", t.Kind)
	}
	if len(list) == 0 || len(list) > mostPaths {
		return invalid("bad_treatment", "a treatment of documents has from 1 to %d paths, such as contact.phone", mostPaths)
	}
	for _, path := range list {
		if slices.ContainsFunc(path, func(step string) bool { return strings.TrimSpace(step) == "" || strings.ContainsRune(step, 0) }) {
			return invalid("bad_treatment", "%q is no path within a document: write its names with points between them, such as contact.phone", strings.Join(path, "."))
		}
	}
	return nil
}

var units = []string{"month", "quarter", "year"}

// foreign names an argument that belongs to another kind, if there is one.
func (t Treatment) foreign() string {
	for _, a := range []struct {
		name string
		set  bool
		of   TreatmentKind
	}{
		{"keep-first", t.KeepFirst != 0, Mask}, {"keep-last", t.KeepLast != 0, Mask}, {"fill", t.Fill != "", Mask}, {"keep", t.Keep != "", Mask},
		{"value", t.Value != "", Constant}, {"bucket", t.Bucket != 0, Generalize}, {"unit", t.Unit != "", Generalize}, {"prefix", t.Prefix != 0, Generalize},
		{"mapping", t.Mapping != "", Generalize}, {"decimals", t.Decimals != 0, Round}, {"multiple", t.Multiple != 0, Round},
		{"range", t.Range != 0, Noise}, {"stable", t.Stable, Noise}, {"expression", t.SQL != "", Expression},
	} {
		if a.set && a.of != t.Kind {
			return a.name
		}
	}
	return ""
}

// Fits returns an error when the treatment cannot be applied to columns of the
// type.
func (t Treatment) Fits(typ string) error {
	typ = baseType(typ)
	if t.Paths != "" {
		if typ != "jsonb" && typ != "json" {
			return invalid("treatment_type", "paths are of documents, json or jsonb, not of %s", typ)
		}
		return nil
	}
	if types := treatedTypes[t.Kind]; types != nil && !slices.Contains(types, typ) {
		return invalid("treatment_type", "%s works on %s; not on %s. Suppress works on all types", t.Kind, strings.Join(types, ", "), typ)
	}
	switch t.Kind {
	case Noise:
		if t.Range != math.Trunc(t.Range) && (slices.Contains(whole, typ) || slices.Contains(dates, typ)) {
			return invalid("treatment_type", "noise of %s needs a whole range (of dates, in days)", typ)
		}
	case Round:
		if slices.Contains(whole, typ) && (t.Multiple < 1 || t.Multiple != math.Trunc(t.Multiple)) {
			return invalid("treatment_type", "round of %s needs a whole multiple, such as 100", typ)
		}
	case Generalize:
		return t.generalizes(typ)
	case Constant:
		if !isOf(t.Value, typ) {
			return invalid("treatment_type", "%q is no %s", t.Value, typ)
		}
	}
	return nil
}

func (t Treatment) generalizes(typ string) error {
	switch {
	case slices.Contains(whole, typ):
		if t.Bucket < 1 || t.Bucket != math.Trunc(t.Bucket) {
			return invalid("treatment_type", "generalize of %s needs a whole bucket, such as 100", typ)
		}
	case slices.Contains(numbers, typ):
		if t.Bucket == 0 {
			return invalid("treatment_type", "generalize of %s needs a bucket, such as 0.5", typ)
		}
	case slices.Contains(dates, typ):
		if t.Unit == "" {
			return invalid("treatment_type", "generalize of %s needs a unit: month, quarter or year", typ)
		}
	case t.Prefix == 0 && t.Mapping == "":
		return invalid("treatment_type", "generalize of %s needs a prefix, how many characters stay, or a mapping", typ)
	}
	return nil
}

// isOf reports whether a text writes a value of a type.
func isOf(s, typ string) bool {
	var err error
	switch typ {
	case "text", "character varying", "character", "name":
		return !strings.ContainsRune(s, 0)
	case "bigint":
		_, err = strconv.ParseInt(s, 10, 64)
	case "integer":
		_, err = strconv.ParseInt(s, 10, 32)
	case "smallint":
		_, err = strconv.ParseInt(s, 10, 16)
	case "double precision", "numeric", "real":
		if strings.Trim(s, "+-0123456789.eE") != "" {
			return false
		}
		var x float64
		x, err = strconv.ParseFloat(s, 64)
		return err == nil && math.Abs(x) < 1e300 && (typ != "real" || math.Abs(x) < 1e38)
	case "boolean":
		return s == "true" || s == "false"
	case "date":
		_, err = time.Parse(time.DateOnly, s)
	case "timestamp", "timestamp with time zone":
		_, err = time.Parse(time.DateTime, s)
	case "uuid":
		return uuids.MatchString(s)
	default:
		return false
	}
	return err == nil
}

// uuids is the form of RFC 9562.
var uuids = regexp.MustCompile(`^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

func (t Treatment) String() string {
	parts := []string{t.Kind.String()}
	add := func(set bool, format string, arg any) {
		if set {
			parts = append(parts, fmt.Sprintf(format, arg))
		}
	}
	add(t.KeepFirst > 0, "keep-first %d", t.KeepFirst)
	add(t.KeepLast > 0, "keep-last %d", t.KeepLast)
	add(t.Keep != "", "keep %q", t.Keep)
	add(t.Kind == Mask && t.Fill != "*", "fill %q", t.Fill)
	add(t.Kind == Constant, "%q", t.Value)
	add(t.Bucket != 0, "bucket %v", t.Bucket)
	add(t.Unit != "", "unit %s", t.Unit)
	add(t.Prefix != 0, "prefix %d", t.Prefix)
	add(t.Kind == Round && t.Multiple == 0, "decimals %d", t.Decimals)
	add(t.Multiple != 0, "multiple %v", t.Multiple)
	add(t.Mapping != "", "mapping %v", t.Mapping.String())
	add(t.Kind == Noise, "range %v", t.Range)
	if t.Stable {
		parts = append(parts, "stable")
	}
	add(t.Kind == Expression, "%s", t.SQL)
	add(t.Paths != "", "paths %s", t.Paths)
	return strings.Join(parts, " ")
}

// Says is what the treatment makes of a column, in words: "masked (first character kept)".
func (t Treatment) Says() string {
	var how []string
	add := func(set bool, format string, args ...any) {
		if set {
			how = append(how, fmt.Sprintf(format, args...))
		}
	}
	does := ""
	switch t.Kind {
	case Clear:
		does = "in clear"
	case Mask:
		does = "masked"
		add(t.KeepFirst > 0, "first %s kept", characters(t.KeepFirst))
		add(t.KeepLast > 0, "last %s kept", characters(t.KeepLast))
		add(t.Keep != "", "%q kept", t.Keep)
		add(t.Fill != "" && t.Fill != "*", "filled with %q", t.Fill)
	case Generalize:
		does = "generalized"
		add(t.Bucket != 0, "in steps of %v", t.Bucket)
		add(t.Unit != "", "to the %s", t.Unit)
		add(t.Prefix != 0, "first %s", characters(t.Prefix))
		add(t.Mapping != "", "by groups")
	case Round:
		switch {
		case t.Multiple != 0:
			does = fmt.Sprintf("rounded to multiples of %v", t.Multiple)
		case t.Decimals < 0:
			does = "rounded to multiples of 1" + strings.Repeat("0", -t.Decimals)
		case t.Decimals == 1:
			does = "rounded to 1 decimal"
		default:
			does = fmt.Sprintf("rounded to %d decimals", t.Decimals)
		}
	case Noise:
		does = fmt.Sprintf("blurred by up to %v", t.Range)
		add(t.Stable, "the same each time")
	case Pseudonym:
		does = "replaced by a pseudonym"
	case Constant:
		does = fmt.Sprintf("replaced by %q", t.Value)
	case Expression:
		does = "replaced by " + t.SQL
	case Suppress:
		does = "suppressed"
	case Blank:
		does = "withheld (blank)"
	case Absent:
		does = "withheld (absent)"
	case Refuse:
		does = "withheld (refused)"
	}
	if t.Paths != "" {
		does = strings.ReplaceAll(t.Paths, ",", ", ") + " " + does
	}
	if len(how) == 0 {
		return does
	}
	return does + " (" + strings.Join(how, ", ") + ")"
}

func characters(n int) string {
	if n == 1 {
		return "character"
	}
	return fmt.Sprintf("%d characters", n)
}
