package platform

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"gneiss/store"
)

// Described says what an entry of the journal did where no sentences were kept with it: its changes
// by their names in the journal, with what they are about.
func Described(e store.Entry) []string {
	var list []journalChange
	if json.Unmarshal([]byte(e.Changes), &list) != nil {
		return nil // it was written by encodeChanges
	}
	var says []string
	for _, c := range list {
		var fields map[string]any
		if json.Unmarshal(c.What, &fields) != nil {
			continue
		}
		words := []string{strings.ReplaceAll(c.Do, "_", " ")}
		for _, name := range []string{"name", "privilege", "bundle", "lane", "label", "member", "of", "path", "object", "table", "subject", "owner"} {
			if text, ok := fields[name].(string); ok && text != "" && !slices.Contains(words, text) {
				words = append(words, text)
			}
		}
		says = append(says, strings.Join(words, " "))
		if len(says) == mostDescribed && len(list) > mostDescribed {
			return append(says, fmt.Sprintf("and %d more", len(list)-mostDescribed))
		}
	}
	return says
}

// mostDescribed bounds how many changes of one entry are described.
const mostDescribed = 20
