// Package say puts values into words.
package say

import "fmt"

// Count says how many there are of something: "1 table", "3 tables".
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
