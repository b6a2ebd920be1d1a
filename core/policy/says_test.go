package policy

import (
	"strings"
	"testing"
)

// TestTreatmentsInWords says each kind, and each argument, as people read it.
func TestTreatmentsInWords(t *testing.T) {
	for _, c := range []struct {
		kind string
		args Treatment
		want string
	}{
		{"mask", Treatment{}, "masked"},
		{"mask", Treatment{KeepFirst: 1}, "masked (first character kept)"},
		{"mask", Treatment{KeepFirst: 3, KeepLast: 2, Keep: "@.-", Fill: "#"}, `masked (first 3 characters kept, last 2 characters kept, "@.-" kept, filled with "#")`},
		{"generalize", Treatment{Bucket: 0.5}, "generalized (in steps of 0.5)"},
		{"generalize", Treatment{Unit: "quarter"}, "generalized (to the quarter)"},
		{"generalize", Treatment{Prefix: 1}, "generalized (first character)"},
		{"generalize", Treatment{Mapping: NewMapping(map[string]string{"a": "b"})}, "generalized (by groups)"},
		{"round", Treatment{}, "rounded to 0 decimals"},
		{"round", Treatment{Decimals: 1}, "rounded to 1 decimal"},
		{"round", Treatment{Multiple: 1000}, "rounded to multiples of 1000"},
		{"noise", Treatment{Range: 5}, "blurred by up to 5"},
		{"noise", Treatment{Range: 5, Stable: true}, "blurred by up to 5 (the same each time)"},
		{"pseudonym", Treatment{}, "replaced by a pseudonym"},
		{"constant", Treatment{Value: "metal"}, `replaced by "metal"`},
		{"expression", Treatment{SQL: "upper(name)"}, "replaced by upper(name)"},
		{"suppress", Treatment{}, "suppressed"},
		{"withhold blank", Treatment{}, "withheld (blank)"},
		{"withhold absent", Treatment{}, "withheld (absent)"},
		{"withhold-refuse", Treatment{}, "withheld (refused)"},
	} {
		treatment, err := NewTreatment(c.kind, c.args)
		if err != nil {
			t.Fatal(err)
		}
		if got := treatment.Says(); got != c.want {
			t.Errorf("%s is said %q, want %q", treatment, got, c.want)
		}
	}
	if got := (Treatment{}).Says(); got != "in clear" {
		t.Errorf("no treatment is said %q", got)
	}
}

// TestKindsFitTheTypesThatTheyList: what a form offers is what is taken.
func TestKindsFitTheTypesThatTheyList(t *testing.T) {
	args := map[TreatmentKind]Treatment{Noise: {Range: 10}, Round: {Multiple: 10}, Generalize: {Bucket: 10, Unit: "month"}, Constant: {Value: "1"}, Expression: {SQL: "NULL"}}
	kinds := Treatments()
	if len(kinds) == 0 || kinds[0] != Refuse || kinds[len(kinds)-1] != Expression {
		t.Errorf("the strictest first: %v", kinds)
	}
	for _, k := range kinds {
		if k.Says() == "" {
			t.Errorf("%s has no words", k)
		}
		given := args[k]
		treatment, err := NewTreatment(k.String(), given)
		if err != nil {
			t.Fatal(err)
		}
		listed := k.Types()
		for _, typ := range []string{"text", "bigint", "double precision", "boolean", "date", "timestamp"} {
			if k == Generalize && typ == "text" || k == Constant {
				continue // their arguments are other than those given
			}
			offered := len(listed) == 0 || strings.Contains(strings.Join(listed, ","), typ)
			if err := treatment.Fits(typ); (err == nil) != offered {
				t.Errorf("%s on %s: listed %t, %v", k, typ, offered, err)
			}
		}
	}
}
