// Package service is the long-running service round the core: it holds the
// state, takes changes, answers questions about access, and is the one gateway
// through which queries reach the sources.
//
// The state is one immutable value behind an atomic pointer. A change is worked
// out on the next state, appended to the journal, and only then becomes
// current; what was acknowledged survives a kill. Standings and plans are cached
// in the state that they were made for, and go with it: no cached plan outlives
// a revision.
package service
