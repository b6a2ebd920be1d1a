package service

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"gneiss/service/admin"
	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/store"
)

// Service is an open platform, by its rooms. Its methods may be called concurrently,
// until Close, which its opener calls once.
type Service struct {
	Platform *platform.Platform
	Audit    *audit.Log
	Identity *identity.Service
	Gateway  *gateway.Service
	Review   *review.Service
	Admin    *admin.Service
	Events   *events.Feed

	store   *store.Store
	stop    context.CancelFunc // of what runs beside requests
	beside  sync.WaitGroup
	working sync.WaitGroup // requests that are being answered
	probed  atomic.Pointer[probe]
}

// Options are what an operator may say of a platform's opening.
type Options struct {
	// Roots are the folders below which folders of SQLite files can be sources;
	// DIR/sources where none is given.
	Roots []string
	// AcceptLoss opens a platform whose record or key is gone, or whose chains do not
	// hold, with what is left.
	AcceptLoss bool
	// CheckEvery is how often the access tests and guardrails are run; zero: never.
	CheckEvery time.Duration
	// KeepRecord is how many days the record is kept; zero: for ever.
	KeepRecord int
	// Now is what time it is for changes and for the record, where a past is made up; time.Now when
	// nil.
	Now func() time.Time
}

// Open opens the platform of a data folder and rebuilds its state from the
// journal.
func Open(ctx context.Context, dir string, log *slog.Logger, options ...Options) (*Service, error) {
	var o Options
	if len(options) > 0 {
		o = options[0]
	}
	st, err := store.Open(dir, o.AcceptLoss)
	if err != nil {
		return nil, err
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Service{store: st, Audit: audit.New(st, log, o.Now), stop: func() {}}
	if s.Events, err = events.NewFeed(ctx, st, log); err != nil {
		st.Close()
		return nil, err
	}
	courier := events.NewCourier(st, s.Events, log, events.Patience)
	if s.Platform, err = platform.Open(ctx, st, s.Audit, log, o.Now); err == nil {
		s.Identity = identity.New(st, s.Platform, s.Audit, log)
		s.Gateway, err = gateway.Open(ctx, gateway.Setup{Store: st, Platform: s.Platform, Audit: s.Audit, Identity: s.Identity, Log: log,
			Roots: o.Roots, NewKey: s.Revision() == 0 || o.AcceptLoss})
	}
	if err != nil {
		st.Close()
		return nil, err
	}
	s.Review = review.New(st, s.Platform, s.Audit, s.Identity, s.Gateway, log)
	s.Admin = admin.New(st, s.Platform, s.Audit, s.Identity, s.Gateway, s.Review, courier, log)
	s.Gateway.Serve(s.Admin)
	var running context.Context
	running, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	s.beside.Go(func() { s.Events.Run(running) })
	s.beside.Go(func() { courier.Run(running) })
	s.beside.Go(func() { s.Review.KeepCounts(running) })
	if o.CheckEvery > 0 {
		s.beside.Go(func() { s.Review.Watch(running, o.CheckEvery) })
	}
	if o.KeepRecord > 0 {
		s.beside.Go(func() { s.Admin.KeepRecord(running, o.KeepRecord) })
	}
	return s, nil
}

// lastAnswers is how long requests whose work was cancelled may take to be recorded.
const lastAnswers = 5 * time.Second

// Close waits for running queries, for as long as the context lets it, and
// closes the platform.
func (s *Service) Close(ctx context.Context) error {
	s.stop()
	s.Gateway.Stop(ctx)
	s.beside.Wait()
	answered := make(chan struct{})
	go func() { s.working.Wait(); close(answered) }()
	select {
	case <-answered:
	case <-time.After(lastAnswers):
	}
	s.Platform.Close(ctx)
	return errors.Join(s.Gateway.Close(), s.store.Close())
}

// Working marks a request that is being answered, until the result is called: the
// records stay open for it.
func (s *Service) Working() (done func()) {
	s.working.Add(1)
	return s.working.Done
}

// Revision is that of the current state.
func (s *Service) Revision() int64 { return s.Platform.Current().Revision }

// A probe says whether the records could be written at a moment.
type probe struct {
	at  time.Time
	err error
}

// probeEvery is how long a probe serves, so that who asks does not wear the disk.
const probeEvery = 2 * time.Second

// Ready returns an error while the platform cannot serve: what is asked could not be
// recorded.
func (s *Service) Ready(ctx context.Context) error {
	if last := s.probed.Load(); last != nil && time.Since(last.at) < probeEvery {
		return last.err
	}
	_, err := s.store.Sources(ctx)
	if err == nil {
		err = s.store.Probe(ctx)
	}
	s.probed.Store(&probe{time.Now(), err})
	return err
}
