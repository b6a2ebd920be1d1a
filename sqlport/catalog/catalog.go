// Package catalog answers questions about pg_catalog and information_schema.
package catalog

import pg "github.com/pganalyze/pg_query_go/v6"

// Asks reports whether a statement is about the catalog.
func Asks(n *pg.Node) bool { return false }
