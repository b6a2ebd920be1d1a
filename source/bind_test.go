package source_test

import (
	"reflect"
	"testing"

	"gneiss/core/emit"
	"gneiss/source"
)

// TestNoiseIsOfOneStatement: what noise comes from is the same throughout a statement, and another for the next, unless a test
// says what it is; otherwise noise could be subtracted.
func TestNoiseIsOfOneStatement(t *testing.T) {
	args := []emit.Arg{{Nonce: true}, {Value: int64(7)}, {Nonce: true}, {Key: true}, {Nonce: true, Pad: 64}}
	seen := map[string]bool{}
	for range 100 {
		out := source.Bind(args, source.Facts{Key: testKey})
		nonce, _ := out[0].(string)
		if len(nonce) < 26 || seen[nonce] || nonce == testKey { // 128 bits
			t.Fatalf("a nonce is %q", nonce)
		}
		if seen[nonce] = true; out[2] != nonce || out[1] != int64(7) || out[3] != testKey {
			t.Fatalf("in one statement: %v", out)
		}
		if again := source.Bind(args, source.Facts{Key: testKey, Nonce: nonce}); !reflect.DeepEqual(again, out) {
			t.Fatalf("with its nonce given: %v and %v", again, out)
		}
	}
	if source.Bind(args, source.Facts{Nonce: testNonce})[0] != testNonce {
		t.Error("a nonce that is given is not taken")
	}
}
