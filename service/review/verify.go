package review

import (
	"context"
	"errors"

	"gneiss/service/identity"
	"gneiss/store"
	"gneiss/wire"
)

// VerifyRecord checks the whole chain of the record of who did what.
func (s *Service) VerifyRecord(ctx context.Context, c identity.Caller) (wire.Verification, error) {
	return s.verify(c, "record", func() (int64, store.Head, error) { return s.store.VerifyRecord(ctx, 0) })
}

// VerifyJournal checks the whole chain of the model's changes, and that the model which runs is
// what they come to.
func (s *Service) VerifyJournal(ctx context.Context, c identity.Caller) (wire.Verification, error) {
	return s.verify(c, "journal", func() (int64, store.Head, error) {
		n, last, err := s.store.VerifyJournal(ctx)
		if err == nil {
			err = s.platform.Verify(ctx)
		}
		return n, last, err
	})
}

// verify is for who reads the record. That a chain does not hold is an answer.
func (s *Service) verify(c identity.Caller, what string, check func() (int64, store.Head, error)) (wire.Verification, error) {
	if err := s.audits(c, "a verification of the "+what); err != nil {
		return wire.Verification{}, err
	}
	n, last, err := check()
	out := wire.Verification{Chain: what, Entries: n, Last: last.Number, Hash: last.Hash, Holds: err == nil}
	if errors.Is(err, store.ErrAltered) {
		out.Problem, err = err.Error(), nil
	}
	return out, err
}
