package grammar_test

import (
	"slices"
	"testing"

	"gneiss/source/grammar"
)

// TestShrink: of a tape that a test fails on, only what it fails on is left.
func TestShrink(t *testing.T) {
	fails := func(bytes []byte) bool {
		tape := grammar.On(bytes)
		for !tape.Done() {
			if tape.N(200) > 150 && tape.N(3) == 2 {
				return true
			}
		}
		return false
	}
	bytes := grammar.Fill(1, 1, 300)
	if !fails(bytes) {
		t.Fatal("the tape is harmless")
	}
	small := grammar.Shrink(bytes, 5000, fails)
	if !fails(small) || len(small) != 2 {
		t.Errorf("it is left at %v", small)
	}
	if tries := 0; len(grammar.Shrink(bytes, 10, func([]byte) bool { tries++; return true })) != 0 || tries > 10 {
		t.Errorf("%d tries of 10", tries)
	}
}

// TestTapes: the same bytes give the same choices, each choice comes up, and past the end comes the first.
func TestTapes(t *testing.T) {
	a, b := grammar.On(grammar.Fill(7, 3, 4000)), grammar.On(grammar.Fill(7, 3, 4000))
	seen := map[int]bool{}
	for range 1000 {
		n := a.N(300)
		if n != b.N(300) {
			t.Fatal("one seed gives two tapes")
		}
		seen[n] = true
	}
	if len(seen) < 250 {
		t.Errorf("of 300 numbers only %d came up", len(seen))
	}
	end := grammar.On(nil)
	if !end.Done() || end.N(9) != 0 || grammar.Pick(end, "x", "y") != "x" || end.One(2) || len(grammar.Some(end, 1, 2)) != 0 {
		t.Error("past its end a tape makes choices")
	}
	if got := grammar.Some(grammar.On([]byte{1, 0, 1}), 'a', 'b', 'c'); !slices.Equal(got, []rune{'a', 'c'}) {
		t.Errorf("%q", got)
	}
}
