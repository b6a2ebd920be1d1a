package policy

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"gneiss/core/access"
)

// A TreatmentKind is a technique of de-identification (ISO/IEC 20889). The
// kinds are ordered: a greater one is stricter.
type TreatmentKind uint8

const (
	Clear     TreatmentKind = iota // as it is
	Mask                           // part kept, the rest filled
	Pseudonym                      // a keyed hash: equal values stay equal
	Suppress                       // NULL
)

var treatmentNames = [...]string{"clear", "mask", "pseudonym", "suppress"}

func (k TreatmentKind) String() string { return treatmentNames[k] }

// A Treatment says what a reader gets in place of a value. Only a mask has
// arguments.
type Treatment struct {
	Kind      TreatmentKind `json:"-"`
	KeepFirst int           `json:"keep_first,omitempty"` // characters kept at the start
	KeepLast  int           `json:"keep_last,omitempty"`  // characters kept at the end
	Fill      string        `json:"fill,omitempty"`       // the character for the others; * when empty
	Keep      string        `json:"keep,omitempty"`       // characters kept wherever they stand
}

// NewTreatment makes a treatment from its kind's name and checks its arguments.
func NewTreatment(kind string, args Treatment) (Treatment, error) {
	t := args
	for k := Mask; k <= Suppress; k++ {
		if treatmentNames[k] == strings.ToLower(kind) {
			t.Kind = k
		}
	}
	switch {
	case t.Kind == Clear:
		return t, &access.NotFound{Kind: "treatment", Name: kind, Known: treatmentNames[1:]}
	case t.Kind != Mask && args != (Treatment{}):
		return t, invalid("bad_treatment", "%s takes no arguments; keep-first, keep-last, fill and keep belong to mask", t.Kind)
	case t.KeepFirst < 0 || t.KeepLast < 0:
		return t, invalid("bad_treatment", "a mask cannot keep fewer than 0 characters")
	case utf8.RuneCountInString(t.Fill) > 1:
		return t, invalid("bad_treatment", "a mask fills with one character, not with %q", t.Fill)
	}
	if t.Kind == Mask && t.Fill == "" {
		t.Fill = "*"
	}
	return t, nil
}

// Fits returns an error when the treatment cannot be applied to columns of the
// type.
func (t Treatment) Fits(typ string) error {
	switch t.Kind {
	case Mask:
		if typ != "text" {
			return invalid("treatment_type", "mask works on text, not on %s; use suppress", typ)
		}
	case Pseudonym:
		if typ != "text" && typ != "bigint" {
			return invalid("treatment_type", "pseudonym works on text and bigint, not on %s; use suppress", typ)
		}
	}
	return nil
}

func (t Treatment) String() string {
	if t.Kind != Mask {
		return t.Kind.String()
	}
	parts := []string{"mask"}
	if t.KeepFirst > 0 {
		parts = append(parts, fmt.Sprintf("keep-first %d", t.KeepFirst))
	}
	if t.KeepLast > 0 {
		parts = append(parts, fmt.Sprintf("keep-last %d", t.KeepLast))
	}
	if t.Keep != "" {
		parts = append(parts, fmt.Sprintf("keep %q", t.Keep))
	}
	if t.Fill != "*" {
		parts = append(parts, fmt.Sprintf("fill %q", t.Fill))
	}
	return strings.Join(parts, " ")
}

// MaskText applies a mask to a text. Where the ends to be kept would leave
// nothing hidden, nothing is kept at the ends.
func (t Treatment) MaskText(s string) string {
	runes := []rune(s)
	first, last := t.KeepFirst, t.KeepLast
	if first+last >= len(runes) {
		first, last = 0, 0
	}
	fill, _ := utf8.DecodeRuneInString(t.Fill)
	for i := first; i < len(runes)-last; i++ {
		if !strings.ContainsRune(t.Keep, runes[i]) {
			runes[i] = fill
		}
	}
	return string(runes)
}
