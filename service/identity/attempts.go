package identity

import (
	"context"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"gneiss/service/fault"
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

	running   map[pair]int  // attempts that have not ended
	ended     chan struct{} // closed when one of them ends
	searching chan struct{} // who looks in the record whether a pair is known
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
		by: expirable.NewLRU[string, failures](mostAttempts, nil, keepAttempts), known: expirable.NewLRU[pair, bool](mostAttempts, nil, keepKnown),
		running: map[pair]int{}, ended: make(chan struct{}), searching: make(chan struct{}, 1)}
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

// An attempt is one that has begun. As many run at once as are free of a wait, and others wait for
// them, so that guesses at once are as slow as one after the other.
type attempt struct {
	of  *attempts
	who pair
}

// mostTogether are how many attempts for an account from an address may run at once; others wait
// for one of them to end.
const mostTogether = freeOfPair

// begin begins an attempt, or refuses it where others that failed were too short ago. SignedIn
// says whether the account was signed in to from the address before; nil: no. It waits, within the
// context, where as many run already.
func (a *attempts) begin(ctx context.Context, who pair, signedIn func() bool) (*attempt, error) {
	for {
		a.mu.Lock()
		if a.running[who] < mostTogether {
			a.running[who]++
			a.mu.Unlock()
			break
		}
		ended := a.ended
		a.mu.Unlock()
		select {
		case <-ended:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
	try := &attempt{of: a, who: who}
	now := time.Now()
	wait, own := a.left(who, now)
	// Nobody else waits while it is looked up whether somebody is known.
	if wait > 0 && signedIn != nil && a.isKnown(who, signedIn) {
		wait = own
	}
	if wait > 0 {
		try.end()
		wait = max(wait.Round(time.Second), time.Second)
		e := fault.New(fault.TooMany, "too_many_attempts", "too many attempts to sign in; wait %s", wait)
		e.Wait = wait
		return nil, e
	}
	return try, nil
}

// left is how long an attempt has yet to wait, and how long for its pair's own failures if the
// pair is known.
func (a *attempts) left(p pair, now time.Time) (wait, own time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	left := func(f failures, free int, longest time.Duration) time.Duration {
		return max(f.last.Add(f.delay(free, longest)).Sub(now), 0)
	}
	pair, _ := a.pairs.Get(p)
	address, _ := a.by.Get("address " + p.address)
	account, _ := a.by.Get("account " + p.account)
	wait = max(left(pair, freeOfPair, longestDelay), left(address, freeOfAddress, longestDelay), left(account, freeOfAccount, longestDelay))
	return wait, left(pair, freeOfPair, longestOfKnown)
}

// isKnown looks whether a pair has signed in before; what is found is kept, so that each pair is
// looked up once.
func (a *attempts) isKnown(p pair, signedIn func() bool) bool {
	a.mu.Lock()
	known, ok := a.known.Get(p)
	a.mu.Unlock()
	if ok {
		return known
	}
	a.searching <- struct{}{} // one search of the record at a time is enough for strangers
	known = signedIn()
	<-a.searching
	a.mu.Lock()
	defer a.mu.Unlock()
	a.known.Add(p, known)
	return known
}

// end ends an attempt, once.
func (t *attempt) end() {
	if t == nil || t.of == nil {
		return
	}
	a := t.of
	t.of = nil
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.running[t.who]--; a.running[t.who] == 0 {
		delete(a.running, t.who)
	}
	close(a.ended)
	a.ended = make(chan struct{})
}

// fails counts an attempt that failed, and ends it.
func (t *attempt) fails() {
	if t.of == nil {
		return
	}
	a, now := t.of, time.Now()
	a.mu.Lock()
	own, _ := a.pairs.Get(t.who)
	a.pairs.Add(t.who, failures{own.n + 1, now})
	for _, key := range []string{"address " + t.who.address, "account " + t.who.account} {
		f, _ := a.by.Get(key)
		a.by.Add(key, failures{f.n + 1, now})
	}
	a.mu.Unlock()
	t.end()
}

// succeeds forgives the failures of an account from an address, and ends the attempt.
func (t *attempt) succeeds() {
	if t.of == nil {
		return
	}
	a := t.of
	a.mu.Lock()
	a.pairs.Remove(t.who)
	a.known.Add(t.who, true)
	a.mu.Unlock()
	t.end()
}
