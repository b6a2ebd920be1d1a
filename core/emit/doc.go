// Package emit writes governed statements as SQL that a database runs: what all
// databases spell alike, and a dialect for each kind.
//
//	governed tree (package query) ─emit→ SQL in one dialect + arguments
//
// It decides where the fences stand that keep what a person writes from rows that are
// not there for them: see barrier.go. It reads the tree alone; the text that somebody
// wrote never reaches a database.
package emit
