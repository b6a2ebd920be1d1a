// Package sqlport lets people's own tools connect: it speaks version 3 of PostgreSQL's published
// frontend/backend protocol. Each connects as themself and gets governed rows. Nothing is decided
// here: who it is, the service's identity says; what they get, its gateway.
package sqlport
