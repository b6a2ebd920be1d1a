package classify

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/sqltype"
)

// A Column is what a detector looks at. Values are a sample, as text, without
// NULLs; there may be none.
type Column struct {
	Table  string
	Name   string
	Type   string // an ISO SQL name, as package query has them
	Values []string
}

// A Proposal says what a column's data seem to be about.
type Proposal struct {
	Form       string   // what was found: "e-mail address"
	Topic      Topic    // what it is about
	Level      string   // how far such data may spread, by access.Level
	Confidence float64  // from 0 to 1
	Evidence   []string // in sentences, without values
}

// A Topic is what data are about, in a word. It names the label to propose.
type Topic string

const (
	Person     Topic = "person"   // who somebody is
	Contact    Topic = "contact"  // how to reach somebody
	Identity   Topic = "identity" // numbers that stand for somebody
	Finance    Topic = "finance"  // accounts and payments
	Commercial Topic = "commercial"
	Position   Topic = "position" // where something or somebody is
)

// enough is the confidence from which a proposal is made.
const enough = 0.4

// few is the number of values under which a sample proves little.
const few = 5

// Look returns what a column's data seem to be about, the surest first: at most
// one proposal for each topic.
func Look(c Column) []Proposal {
	best := lookAt(c)
	if c.Type == sqltype.JSON.Name || c.Type == sqltype.JSONB.Name {
		best = lookWithin(c)
	}
	var all []Proposal
	for _, p := range best {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b Proposal) int {
		return cmp.Or(cmp.Compare(b.Confidence, a.Confidence), cmp.Compare(a.Topic, b.Topic))
	})
	return all
}

// lookAt is what the detectors find, the surest of each topic.
func lookAt(c Column) map[Topic]Proposal {
	best := map[Topic]Proposal{}
	for _, d := range detectors {
		if p, ok := d.look(c); ok && p.Confidence > best[p.Topic].Confidence {
			best[p.Topic] = p
		}
	}
	return best
}

// A detector knows one form of data.
type detector struct {
	form  string
	topic Topic
	level string
	types []string // of columns; none: any
	// names are words, of which one in the column's name is evidence, as strong
	// as byName. Not are words that take it away.
	names  []string
	not    []string
	byName float64
	// has reports whether a value has the form, and checked whether its checksum
	// is right as well. byValue and byChecksum are how much it proves when all
	// values do; the form alone proves nothing where byValue is 0.
	has                 func(string) bool
	checked             func(string) bool
	byValue, byChecksum float64
	says                string // "have the form of an e-mail address"
}

func (d *detector) look(c Column) (Proposal, bool) {
	p := Proposal{Form: d.form, Topic: d.topic, Level: d.level}
	if len(d.types) > 0 && !slices.Contains(d.types, sqltype.Simple(c.Type)) {
		return p, false
	}
	doubt := 1.0 // that it is this form, by all evidence
	if word := d.named(c); word != "" {
		doubt *= 1 - d.byName
		p.Evidence = append(p.Evidence, fmt.Sprintf("the name has %q in it", word))
	}
	if d.has != nil && len(c.Values) > 0 {
		doubt *= d.sampled(c, &p)
	}
	p.Confidence = float64(int((1-doubt)*100+0.5)) / 100
	return p, p.Confidence >= enough
}

// sampled returns the doubt that the sampled values leave. Where the name speaks
// for the form and most values against it, doubt grows.
func (d *detector) sampled(c Column, p *Proposal) float64 {
	has, right := 0, 0
	for _, v := range c.Values {
		if !d.has(strings.TrimSpace(v)) {
			continue
		}
		has++
		if d.checked != nil && d.checked(strings.TrimSpace(v)) {
			right++
		}
	}
	n := len(c.Values)
	weight := 1.0
	if n < few {
		weight = 0.5
	}
	share := float64(has) / float64(n)
	switch {
	case share < 0.2 && n >= few && len(p.Evidence) > 0:
		p.Evidence = append(p.Evidence, fmt.Sprintf("but %d of %d sampled values %s", has, n, d.says))
		return 1.8
	case share < 0.5:
		return 1
	}
	doubt := 1 - share*d.byValue*weight
	if d.byValue > 0 {
		p.Evidence = append(p.Evidence, fmt.Sprintf("%d of %d sampled values %s", has, n, d.says))
	}
	if d.checked != nil && float64(right) >= 0.8*float64(has) {
		p.Evidence = append(p.Evidence, fmt.Sprintf("the checksum is right in %d of them", right))
		doubt *= 1 - float64(right)/float64(n)*d.byChecksum*weight
	}
	return doubt
}

// named returns the word in the column's name that speaks for the form, or "".
func (d *detector) named(c Column) string {
	words := wordsOf(c.Name)
	has := func(list []string) string {
		for _, w := range list {
			parts := strings.Split(w, "_")
			for i := 0; i+len(parts) <= len(words); i++ {
				if slices.Equal(words[i:i+len(parts)], parts) {
					return w
				}
			}
		}
		return ""
	}
	if has(d.not) != "" {
		return ""
	}
	return has(d.names)
}

// wordsOf takes a name apart: bank_account, bankAccount and "Bank Account" are
// bank and account.
func wordsOf(name string) []string {
	var b strings.Builder
	previous := ' '
	for _, r := range name {
		switch {
		case r >= 'A' && r <= 'Z':
			if previous >= 'a' && previous <= 'z' {
				b.WriteByte(' ')
			}
			b.WriteRune(r - 'A' + 'a')
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127:
			b.WriteRune(r)
		default:
			b.WriteByte(' ')
		}
		previous = r
	}
	return strings.Fields(b.String())
}
