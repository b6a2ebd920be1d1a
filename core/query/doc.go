// Package query turns a SQL text into a governed one.
//
//	text ─parse→ syntax ─bind→ bound query ─authorise→ decision ─govern→ governed query ─emit→ dialect SQL + arguments
//
// The grammar is PostgreSQL's, as a library. Binding takes every name to an
// object of the catalog and every expression to a type, and refuses, with its
// place in the text, what it does not know. Authorising collects all that the
// session lacks. Governing puts in place of each table a sub-query with the
// rows and treated values that the session's policies leave; a table that no
// policy touches stays a plain reference. Emitting writes SQL for the source's
// dialect from the bound tree alone: the text that the user wrote never reaches
// a database, and literals travel as arguments.
//
// # Closed by default
//
// Functions and operators come from an allow-list. Statements, clauses and
// nodes that no code here handles are refused. The bound tree is a closed set
// of types.
//
// # The barrier
//
// What the user wrote is never worked out on a row that a policy hides, since its
// failure, or the time that it takes, would tell of the row. See barrier.go.
package query
