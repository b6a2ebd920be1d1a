package query

import (
	"strings"
	"testing"
)

// TestPhrases holds the sentence and the condition in step, both ways.
func TestPhrases(t *testing.T) {
	for _, c := range []struct{ rule, words string }{
		{"district IN (attribute('districts'))", "district is one of the reader's districts"},
		{"in_group(district)", "district is one of the reader's groups"},
		{"author IN (team())", "author is in the reader's team"},
		{"officer = CURRENT_USER", "officer is the reader"},
		{"release_on <= CURRENT_DATE", "release_on has come"},
		{"district IN (SELECT district FROM field.district_officers WHERE officer = CURRENT_USER)", "district is listed for the reader in field.district_officers (district, by officer)"},
		{"true", ""},
		{"in_group(district) AND release_on <= CURRENT_DATE", "district is one of the reader's groups and release_on has come"},
		{"in_group(district) OR officer = CURRENT_USER", "district is one of the reader's groups or officer is the reader"},
		{`"Odd Name" IN (attribute('it''s'))`, "Odd Name is one of the reader's it's"},
	} {
		phrases, join, ok := ReadPhrases(c.rule)
		if !ok || Words(c.rule) != c.words {
			t.Errorf("%s: %v, %q; want %q", c.rule, ok, Words(c.rule), c.words)
			continue
		}
		if again, err := WritePhrases(phrases, join); err != nil || again != c.rule {
			t.Errorf("%s is written again as %s, %v", c.rule, again, err)
		}
	}
	for _, beyond := range []string{"depth_m > 10", "NOT in_group(district)", "district NOT IN (attribute('districts'))", "in_group(district) AND (a = 1 OR b = 2)", "false", "1", "district IN (attribute('a'), 'north')",
		"district IN (SELECT district FROM o WHERE officer = CURRENT_USER AND since > '2024-01-01')", "district IN (SELECT DISTINCT district FROM o WHERE officer = CURRENT_USER)", "district = ANY (SELECT d FROM o AS p WHERE u = CURRENT_USER)",
		"lower(officer) = CURRENT_USER", "t.officer = CURRENT_USER", "officer <> CURRENT_USER", "true LIMIT 1", "true; select 1", ""} {
		if _, _, ok := ReadPhrases(beyond); ok || Words(beyond) != beyond {
			t.Errorf("the sentence says it reaches %q: %q", beyond, Words(beyond))
		}
	}
	for _, p := range []Phrase{{Kind: IsAttribute, Column: "c"}, {Kind: IsGroup}, {Kind: ListedIn, Column: "c", Table: "t", Key: "k"}, {Kind: "nonsense"}} {
		if text, err := p.SQL(); err == nil {
			t.Errorf("%+v is written as %s", p, text)
		}
	}
}

// FuzzPhrases holds that what is read can be written, and read again as the same.
func FuzzPhrases(f *testing.F) {
	for _, rule := range []string{"district IN (attribute('districts'))", "in_group(a) OR b = CURRENT_USER", "a IN (SELECT b FROM c.d WHERE e = CURRENT_USER)", "true"} {
		f.Add(rule)
	}
	f.Fuzz(func(t *testing.T, rule string) {
		phrases, join, ok := ReadPhrases(rule)
		if !ok {
			return
		}
		text, err := WritePhrases(phrases, join)
		if err != nil {
			return // a name that is empty
		}
		again, joined, ok := ReadPhrases(text)
		if !ok || len(again) != len(phrases) || len(again) > 1 && joined != join {
			t.Fatalf("%q is written as %q and read as %v", rule, text, again)
		}
		for i := range again {
			if !strings.EqualFold(again[i].Words(), phrases[i].Words()) {
				t.Errorf("%q: %v became %v", rule, phrases[i], again[i])
			}
		}
	})
}
