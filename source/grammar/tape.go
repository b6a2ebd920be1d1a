// Package grammar writes what random tests ask: statements, sessions and the databases they are asked of. Every
// choice is taken from a tape of bytes. A seed fills it, a fuzzer hands one in, and a tape on which a
// test fails is made smaller by lowering and deleting its bytes.
package grammar

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A Tape is what choices are taken from. Past its end each is the first of those that there are.
type Tape struct {
	bytes []byte
	at    int
}

// Fill makes the bytes of a tape from a seed.
func Fill(seed, part uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, part))
	out := make([]byte, n)
	for i := range out {
		out[i] = byte(r.Uint32())
	}
	return out
}

// On is a tape of bytes, at its beginning.
func On(bytes []byte) *Tape { return &Tape{bytes: bytes} }

// Done reports whether nothing is left on the tape.
func (t *Tape) Done() bool { return t.at >= len(t.bytes) }

// N takes a number from 0 up to k-1; k is at most 65,536.
func (t *Tape) N(k int) int {
	n := 0
	for size := 1; size < k; size <<= 8 {
		if t.Done() {
			break
		}
		n = n<<8 | int(t.bytes[t.at])
		t.at++
	}
	return n % k
}

// One reports, once in k, true.
func (t *Tape) One(k int) bool { return t.N(k) == k-1 }

// Pick takes one of a list.
func Pick[T any](t *Tape, list ...T) T { return list[t.N(len(list))] }

// Some takes so many of a list, at random, in their order.
func Some[T any](t *Tape, list ...T) []T {
	var out []T
	for _, one := range list {
		if t.N(2) == 1 {
			out = append(out, one)
		}
	}
	return out
}

// Shrink makes a tape smaller, as long as a test fails on it, in up to so many tries.
func Shrink(bytes []byte, tries int, fails func([]byte) bool) []byte {
	try := func(next []byte) bool {
		if tries--; tries < 0 || !fails(next) {
			return false
		}
		bytes = next
		return true
	}
	for changed := true; changed && tries > 0; {
		changed = false
		for size := len(bytes); size > 0; size /= 2 {
			for at := 0; at+size <= len(bytes) && tries > 0; {
				if !try(append(append([]byte{}, bytes[:at]...), bytes[at+size:]...)) {
					at += size
				} else {
					changed = true
				}
			}
		}
		for i := 0; i < len(bytes) && tries > 0; i++ {
			for _, lower := range []byte{0, bytes[i] / 2} {
				if lower == bytes[i] {
					continue
				}
				next := append([]byte{}, bytes...)
				if next[i] = lower; try(next) {
					changed = true
					break
				}
			}
		}
	}
	return bytes
}

// Faults reads the tapes in a folder, by the names of the faults that they once found. A tape is kept as
// hexadecimal digits, before them lines that begin with # and say what it is.
func Faults(t testing.TB, folder string) map[string][]byte {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(folder, "*.tape"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]byte{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			var bytes []byte
			if _, err := fmt.Sscanf(line, "%x", &bytes); err != nil {
				t.Fatalf("%s: %v", file, err)
			}
			out[strings.TrimSuffix(filepath.Base(file), ".tape")] = bytes
		}
	}
	return out
}
