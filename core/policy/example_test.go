package policy_test

import (
	"fmt"

	"gneiss/core/policy"
)

// A treatment has an exact form, and one in words.
func ExampleNewTreatment() {
	mask, err := policy.NewTreatment("mask", policy.Treatment{KeepFirst: 1, Keep: "@.-"})
	fmt.Println(mask, err)
	fmt.Println(mask.Says())
	fmt.Println(mask.MaskText("ann@north.test"))
	_, err = policy.NewTreatment("round", policy.Treatment{Bucket: 5})
	fmt.Println(err)
	// Output:
	// mask keep-first 1 keep "@.-" <nil>
	// masked (first character kept, "@.-" kept)
	// a**@*****.****
	// round takes no bucket
}
