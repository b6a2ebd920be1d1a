package query_test

import (
	"fmt"

	"gneiss/core/query"
)

// The common conditions are read as words, and written from them.
func ExampleReadPhrases() {
	phrases, join, ok := query.ReadPhrases("district IN (attribute('districts')) OR in_group(team)")
	fmt.Println(len(phrases), join, ok)
	for _, p := range phrases {
		fmt.Printf("%s %q %q\n", p.Kind, p.Column, p.Attribute)
	}
	rule, err := query.WritePhrases(phrases, join)
	fmt.Println(rule, err)
	// Output:
	// 2 OR true
	// attribute "district" "districts"
	// group "team" ""
	// district IN (attribute('districts')) OR in_group(team) <nil>
}
