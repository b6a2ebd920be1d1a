// Package api serves the service over HTTP: JSON under /api/v1, described by an
// OpenAPI 3.1 document that is made from the same types that the handlers use,
// and the console. It has no rule of its own about access.
package api
