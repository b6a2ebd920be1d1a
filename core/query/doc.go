// Package query turns a SQL text into a governed one.
//
//	text ─parse→ syntax ─bind→ bound query ─authorise→ decision ─govern→ governed query
//
// The grammar is PostgreSQL's, as a library. Binding takes every name to an
// object of the catalog and every expression to a type, and refuses, with its
// place in the text, what it does not know. Authorising collects all that the
// session lacks. Governing puts in place of each table a sub-query with the
// rows and treated values that the session's policies leave; a table that no
// policy touches stays a plain reference. Package emit writes the governed query as
// SQL; nothing here asks which database it is for.
//
// # Closed by default
//
// Functions and operators come from an allow-list. Statements, clauses and
// nodes that no code here handles are refused. The bound tree is a closed set
// of types.
package query
