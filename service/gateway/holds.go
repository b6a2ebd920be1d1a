package gateway

import (
	"context"
	"sync"

	"gneiss/core/access"
	"gneiss/service/fault"
	"gneiss/service/platform"
	"gneiss/source"
)

// A transaction keeps a connection of its source while its client thinks. So that nobody keeps all
// of them, an account has its share of those that transactions may keep, others stay for
// statements by themselves, and who waits gets the next one by turns among the accounts. While
// somebody waits, the transactions that keep a connection are told to hurry.

// holds are what transactions keep of all sources.
type holds struct {
	mu     sync.Mutex
	places map[place]*seats
}

// A place is where connections are kept: a source, for reading or for writing. Where a source has
// one writer at a time, which waits for transactions that read, both are kept in one place: those
// that read share it, and one that writes has it alone.
type place struct {
	source access.ObjectID
	write  bool
}

// Seats are the connections of a place.
type seats struct {
	all, own int // how many may be kept, and by one account
	by       map[access.SubjectID]int
	n        int
	alone    bool // what is kept shares the place with no other
	kept     map[*hold]struct{}

	turns   []access.SubjectID // of the accounts that wait
	waiting map[access.SubjectID][]*wait
}

// A wait is one who waits for a connection.
type wait struct {
	turn  chan struct{} // closed when it is there
	alone bool
}

// A hold is one connection that is kept.
type hold struct {
	who   access.SubjectID
	hurry func() // tells who keeps it that others wait; nil: it ends by itself
	alone bool   // it shares the place with no other
	rests bool   // it is of rows that their reader has not read yet
}

// yields reports whether a hold is to hurry for one who waits. For its own account's next rows it is not: they wait for
// what others keep.
func (h *hold) yields(to *hold) bool {
	return h.hurry != nil && (!h.rests || h.who != to.who || to.alone)
}

// enter keeps a connection, or waits for one within the context; all and own are how many may be
// kept. leave gives it back.
func (h *holds) enter(ctx context.Context, at place, all, own int, one *hold) (leave func(), err error) {
	h.mu.Lock()
	s := h.places[at]
	if s == nil {
		s = &seats{by: map[access.SubjectID]int{}, kept: map[*hold]struct{}{}, waiting: map[access.SubjectID][]*wait{}}
		if h.places == nil {
			h.places = map[place]*seats{}
		}
		h.places[at] = s
	}
	s.all, s.own = all, own
	leave = sync.OnceFunc(func() { h.leave(s, one) })
	if !one.alone && own > 1 && s.by[one.who] >= own {
		h.mu.Unlock()
		e := fault.New(fault.TooMany, "too_many_transactions", "%d transactions of yours keep connections to this source; end some of them", own)
		e.SQLState = "53300"
		return nil, e
	}
	if len(s.turns) == 0 && s.room(one.who, one.alone) {
		s.take(one.who, one.alone)
		s.kept[one] = struct{}{}
		h.mu.Unlock()
		return leave, nil
	}
	if len(s.waiting[one.who]) >= mostOwnWaiting {
		h.mu.Unlock()
		return nil, fault.New(fault.TooMany, "too_many_transactions", "too many statements of yours wait for this source; try again")
	}
	next := &wait{make(chan struct{}), one.alone}
	if len(s.waiting[one.who]) == 0 {
		s.turns = append(s.turns, one.who)
	}
	s.waiting[one.who] = append(s.waiting[one.who], next)
	var hurry []func()
	for other := range s.kept {
		if other.yields(one) {
			hurry = append(hurry, other.hurry)
		}
	}
	h.mu.Unlock()
	for _, f := range hurry {
		f()
	}
	select {
	case <-next.turn:
		h.mu.Lock()
		s.kept[one] = struct{}{}
		more := len(s.turns) > 0
		h.mu.Unlock()
		if more && one.hurry != nil {
			one.hurry()
		}
		return leave, nil
	case <-ctx.Done():
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	select {
	case <-next.turn: // at the same moment
		s.free(one.who)
	default:
		s.forget(one.who, next)
		s.admit(0)
	}
	return nil, context.Cause(ctx)
}

// waited reports whether somebody waits for what a hold keeps.
func (h *holds) waited(at place) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.places[at]
	return s != nil && len(s.turns) > 0
}

// waitedFor reports whether one waits to whom a hold yields.
func (h *holds) waitedFor(at place, one *hold) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if s := h.places[at]; s != nil {
		for who, list := range s.waiting {
			for _, w := range list {
				if one.yields(&hold{who: who, alone: w.alone}) {
					return true
				}
			}
		}
	}
	return false
}

// room reports whether one more may be kept.
func (s *seats) room(who access.SubjectID, alone bool) bool {
	if alone {
		return s.n == 0
	}
	return !s.alone && s.n < s.all && s.by[who] < s.own
}

func (s *seats) take(who access.SubjectID, alone bool) {
	s.n++
	s.by[who]++
	s.alone = alone
}

func (h *holds) leave(s *seats, one *hold) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(s.kept, one)
	s.free(one.who)
}

// free gives a seat back, and to who is next.
func (s *seats) free(who access.SubjectID) {
	s.n--
	if s.by[who]--; s.by[who] == 0 {
		delete(s.by, who)
	}
	if s.n == 0 {
		s.alone = false
	}
	s.admit(who)
}

// admit lets those in who wait and for whom there is room, by turns; last is who has just had one.
func (s *seats) admit(last access.SubjectID) {
	if len(s.turns) > 1 && s.turns[0] == last {
		s.turns = append(s.turns[1:len(s.turns):len(s.turns)], last)
	}
	for i := 0; i < len(s.turns); {
		who := s.turns[i]
		next := s.waiting[who][0]
		if !s.room(who, next.alone) {
			if i++; next.alone {
				return // those that share would keep it out for ever
			}
			continue
		}
		s.take(who, next.alone)
		s.forget(who, next)
		if len(s.waiting[who]) > 0 { // behind the others
			s.turns = append(s.turns[:i:i], append(s.turns[i+1:], who)...)
		}
		close(next.turn)
	}
}

// forget takes one who waits out of the queue.
func (s *seats) forget(who access.SubjectID, gone *wait) {
	list := s.waiting[who]
	for i, other := range list {
		if other == gone {
			list = append(list[:i:i], list[i+1:]...)
			break
		}
	}
	if s.waiting[who] = list; len(list) == 0 {
		delete(s.waiting, who)
		for i, other := range s.turns {
			if other == who {
				s.turns = append(s.turns[:i:i], s.turns[i+1:]...)
				break
			}
		}
	}
}

// share is how many of a source's connections transactions may keep, in all and of one account: a
// quarter stays for statements by themselves.
func share(connections int) (all, own int) {
	return max(connections-connections/4, 1), max(connections/2, 1)
}

// keep keeps a connection of a source, for who reads or who writes, and says at which place.
func (s *Service) keep(
	ctx context.Context,
	src source.Source,
	at *place,
	id access.ObjectID,
	write bool,
	one *hold,
) (leave func(), err error) {
	readers, writers := src.Connections()
	*at = place{id, write}
	all, own := share(readers)
	switch {
	case writers == 1:
		*at, one.alone = place{id, false}, write
	case write:
		all, own = share(writers)
	}
	return s.holds.enter(ctx, *at, all, own, one)
}

// mayWrite reports whether a caller may change rows of a source.
func (s *Service) mayWrite(st *platform.State, rights *access.Rights, id access.ObjectID) bool {
	found := false
	st.Model.Relations(id, func(o *access.Object) bool {
		found = rights.Resolve(o.ID).Allowed.Any(access.Set(access.Insert, access.Update, access.Delete))
		return !found
	})
	return found
}
