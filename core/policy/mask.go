package policy

import (
	"strings"
	"unicode/utf8"
)

// MaskText applies a mask to a text. Where the ends to be kept would leave
// nothing hidden, nothing is kept at the ends.
func (t Treatment) MaskText(s string) string {
	runes := []rune(s)
	first, last := t.KeepFirst, t.KeepLast
	if first+last >= len(runes) {
		first, last = 0, 0
	}
	fill, _ := utf8.DecodeRuneInString(t.Fill)
	for i := first; i < len(runes)-last; i++ {
		if !strings.ContainsRune(t.Keep, runes[i]) {
			runes[i] = fill
		}
	}
	return string(runes)
}
