// Package guard has what must stay true of the access model: guardrails, which hold for everyone in
// every state, and access tests, which say what one standpoint gets of one table.
//
// A guardrail is checked on a state as a whole, or on what a change can touch: where it held before,
// only that can break it.
package guard
