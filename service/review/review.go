// Package review answers: what there is, who can do what with it and why, and what there is
// to review. It changes nothing.
package review

import (
	"log/slog"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/singleflight"

	"gneiss/service/audit"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/store"
)

// A Service answers questions about the model. Its methods may be called concurrently.
type Service struct {
	store    *store.Store
	platform *platform.Platform
	audit    *audit.Log
	identity *identity.Service
	gateway  *gateway.Service
	log      *slog.Logger

	suggested suggestions
	sampling  singleflight.Group
	named     atomic.Pointer[names]
	bundles   atomic.Pointer[granted]
	looking   sync.Mutex // and with it
	kept      *sight     // of the state that was looked at last
	needed    *needed    // of the usual days
	found     atomic.Pointer[foundList]
	checked   atomic.Int64 // how often the checks were run by the service
}

// New returns the answers about a platform.
func New(st *store.Store, p *platform.Platform, record *audit.Log, who *identity.Service, rows *gateway.Service, log *slog.Logger) *Service {
	return &Service{store: st, platform: p, audit: record, identity: who, gateway: rows, log: log}
}
