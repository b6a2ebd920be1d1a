// Package identity knows who is calling, as whom they look, and what they may be told.
package identity

import (
	"log/slog"

	lru "github.com/hashicorp/golang-lru/v2"

	"gneiss/service/audit"
	"gneiss/service/platform"
	"gneiss/store"
)

// A Service signs callers in and works out their standpoints. Its methods may be called
// concurrently.
type Service struct {
	store       *store.Store
	platform    *platform.Platform
	audit       *audit.Log
	log         *slog.Logger
	attempts    *attempts
	tokens      *lru.Cache[[32]byte, keptToken] // by the hash of their secrets
	Connections Connections
}

// New returns the identity of a platform's callers.
func New(st *store.Store, p *platform.Platform, record *audit.Log, log *slog.Logger) *Service {
	tokens, err := lru.New[[32]byte, keptToken](mostAttempts)
	if err != nil {
		panic(err) // only for a size below one
	}
	return &Service{store: st, platform: p, audit: record, log: log, attempts: newAttempts(), tokens: tokens}
}
