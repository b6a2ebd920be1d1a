// Package admin makes the changes of the model: one file for each kind of thing, each
// change authorized in one place.
package admin

import (
	"log/slog"

	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/store"
)

// A Service makes changes. Its methods may be called concurrently.
type Service struct {
	store    *store.Store
	platform *platform.Platform
	audit    *audit.Log
	identity *identity.Service
	gateway  *gateway.Service
	review   *review.Service
	courier  *events.Courier
	log      *slog.Logger
}

// New returns the changes of a platform.
func New(st *store.Store, p *platform.Platform, record *audit.Log, who *identity.Service, rows *gateway.Service, answers *review.Service,
	courier *events.Courier, log *slog.Logger) *Service {
	return &Service{store: st, platform: p, audit: record, identity: who, gateway: rows, review: answers, courier: courier, log: log}
}
