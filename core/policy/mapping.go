package policy

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// A Mapping groups the values of a text column (generalization by ISO/IEC
// 20889): the JSON object from value to group, with sorted keys, so that equal
// mappings are equal. The key * stands for all other values; without it they
// become NULL.
type Mapping string

// NewMapping writes a mapping; of nothing it is the empty one.
func NewMapping(groups map[string]string) Mapping {
	if len(groups) == 0 {
		return ""
	}
	text, err := json.Marshal(groups)
	if err != nil {
		panic(err) // texts always marshal
	}
	return Mapping(text)
}

// Groups reads the mapping.
func (m Mapping) Groups() map[string]string {
	groups := map[string]string{}
	if m != "" && json.Unmarshal([]byte(m), &groups) != nil {
		return nil
	}
	return groups
}

// Values lists what is mapped, sorted, without *.
func (m Mapping) Values() []string {
	var values []string
	for v := range m.Groups() {
		if v != "*" {
			values = append(values, v)
		}
	}
	slices.Sort(values)
	return values
}

func (m Mapping) check() error {
	groups := m.Groups()
	if groups == nil || NewMapping(groups) != m {
		return invalid("bad_treatment", "the mapping %s cannot be read; give it as value=group, value=group", string(m))
	}
	return nil
}

func (m Mapping) String() string {
	groups := m.Groups()
	var parts []string
	for _, v := range m.Values() {
		parts = append(parts, fmt.Sprintf("%s=%s", v, groups[v]))
	}
	if rest, ok := groups["*"]; ok {
		parts = append(parts, "*="+rest)
	}
	return strings.Join(parts, ",")
}
