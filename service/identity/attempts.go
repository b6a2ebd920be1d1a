package identity

import (
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"
)

// attempts slows down who guesses passwords. Failures are counted by account and
// address together, by address, and by account, and each count makes the next
// attempt wait, longer each time. A success forgives the pair alone, so that trying
// one's own account between others' buys nothing. Who has signed in to an account
// from an address before waits there for that pair's failures only, and not long, so
// that nobody can lock another out.
type attempts struct {
	mu    sync.Mutex
	pairs *expirable.LRU[pair, failures]
	by    *expirable.LRU[string, failures] // by address, and by account
	known *expirable.LRU[pair, bool]       // that have signed in
}

type pair struct{ account, address string }

type failures struct {
	n    int
	last time.Time
}

// What is kept is bounded in number and time.
const (
	mostAttempts   = 20_000
	keepAttempts   = time.Hour
	keepKnown      = 30 * 24 * time.Hour
	freeOfPair     = 5
	freeOfAddress  = 20
	freeOfAccount  = 50
	longestDelay   = 15 * time.Minute
	longestOfKnown = 10 * time.Second
)

func newAttempts() *attempts {
	return &attempts{pairs: expirable.NewLRU[pair, failures](mostAttempts, nil, keepAttempts),
		by: expirable.NewLRU[string, failures](mostAttempts, nil, keepAttempts), known: expirable.NewLRU[pair, bool](mostAttempts, nil, keepKnown)}
}

// delay is how long after a failure the next attempt waits: a second behind the free
// ones, then twice as long each time.
func (f failures) delay(free int, longest time.Duration) time.Duration {
	over := f.n - free
	if over < 0 {
		return 0
	}
	return min(time.Second<<min(over, 20), longest)
}

// wait returns how long an attempt has yet to wait; zero: it may go on. signedIn
// says whether the account was signed in to from the address before.
func (a *attempts) wait(p pair, now time.Time, signedIn func() bool) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	left := func(f failures, free int, longest time.Duration) time.Duration {
		return max(f.last.Add(f.delay(free, longest)).Sub(now), 0)
	}
	own, _ := a.pairs.Get(p)
	address, _ := a.by.Get("address " + p.address)
	account, _ := a.by.Get("account " + p.account)
	wait := max(left(own, freeOfPair, longestDelay), left(address, freeOfAddress, longestDelay), left(account, freeOfAccount, longestDelay))
	if wait > 0 && a.isKnown(p, signedIn) {
		return left(own, freeOfPair, longestOfKnown)
	}
	return wait
}

func (a *attempts) isKnown(p pair, signedIn func() bool) bool {
	known, ok := a.known.Get(p)
	if !ok {
		known = signedIn()
		a.known.Add(p, known)
	}
	return known
}

// failed counts an attempt that failed.
func (a *attempts) failed(p pair, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	own, _ := a.pairs.Get(p)
	a.pairs.Add(p, failures{own.n + 1, now})
	for _, key := range []string{"address " + p.address, "account " + p.account} {
		f, _ := a.by.Get(key)
		a.by.Add(key, failures{f.n + 1, now})
	}
}

// succeeded forgives the failures of an account from an address.
func (a *attempts) succeeded(p pair) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.pairs.Remove(p)
	a.known.Add(p, true)
}
