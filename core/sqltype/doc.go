// Package sqltype knows the types, routines, operators and casts of PostgreSQL, and finds
// what a name means for given operands, by the rules of its manual's chapter "Type
// Conversion".
//
// What it knows is read from a real server: see the package pgcatalog. It holds what a
// query may call: routines of the server's own that are immutable, or stable and harmless.
// What is never to be called is known by name, with why. All else is unknown.
package sqltype

//go:generate go run gneiss/source/pgcatalog/generate catalog.tsv
