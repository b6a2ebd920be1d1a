// Package policy holds row and column policies: which rows of a table exist for
// whom, and how the values of a column appear.
//
// # Row policies
//
// A row policy in mode allow lets its readers see the rows that its rule is
// true for; a row is visible when any allow policy that applies lets it through.
// A table with a live allow policy shows no rows to whom none applies. A policy
// in mode limit takes away: every limit policy that applies must let the row
// through.
//
// # Column policies
//
// A column policy treats the values of columns, in the terms of ISO/IEC 20889:
// suppression, masking, pseudonymization. Where several apply the strictest
// wins. A holder of REVEAL on the column sees it in clear.
//
// # Whom a policy applies to
//
// For names the subjects a policy is about, PUBLIC when empty; Except takes
// subjects out. What gives (being in For of an allow policy, in Except of any
// other) must be acted in: a session narrowed to another role does not have it.
// What takes (the reverse) goes by what is held, so that a restriction is not
// shed by narrowing.
//
// The rule of a row policy is kept as text here; package query binds it.
package policy
