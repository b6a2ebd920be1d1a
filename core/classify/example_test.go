package classify_test

import (
	"fmt"

	"gneiss/core/classify"
)

// What a column holds is proposed from its name, its type and a sample of its values.
func ExampleLook() {
	for _, p := range classify.Look(classify.Column{Table: "holders", Name: "email", Type: "text",
		Values: []string{"ann@north.test", "bo@coast.test", "cy@basin.test"}}) {
		fmt.Println(p.Topic, p.Level, p.Form)
	}
	// Output:
	// contact confidential e-mail address
}
