package sqlport

import (
	"gneiss/core/query"
)

func (c *session) catalogColumns(p *prepared) ([]query.Column, error) { return nil, nil }

func (c *session) list(p *prepared, params []any, answer *rows) (string, error) { return "", nil }

func (c *session) fetchListed(p *portal, most int, move bool, answer *rows) (string, error) {
	return "", nil
}
