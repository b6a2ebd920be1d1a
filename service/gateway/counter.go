package gateway

import (
	"context"
	"fmt"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/service/platform"
	"gneiss/source"
)

// A Counter counts rows of tables on a lane, each governed query once.
type Counter struct {
	gateway *Service
	who     access.SubjectID
	lane    *access.Object
	known   map[string]int64
}

// Counter returns a counter that runs on a lane, for a person; zero: for the service itself.
func (s *Service) Counter(who access.SubjectID, lane *access.Object) *Counter {
	return &Counter{s, who, lane, map[string]int64{}}
}

// Rows counts the rows of a table that are there for a session.
func (c *Counter) Rows(ctx context.Context, st *platform.State, session access.Standpoint, table *access.Object) (int64, error) {
	rights, err := st.Rights(session, time.Now())
	if err != nil {
		return 0, err
	}
	plan, err := st.Plan(ctx, rights, query.Statement{SQL: "SELECT count(*) FROM " + st.Model.Path(table.ID)})
	if err != nil {
		return 0, err
	}
	return c.Count(ctx, plan)
}

// All counts a table's rows whoever may see them, for who manages it: as the
// administrator role, which reads all tables, without policies.
func (c *Counter) All(ctx context.Context, st *platform.State, table *access.Object) (int64, error) {
	role, err := st.Model.FindSubject(access.Administrator)
	if err != nil {
		return 0, err
	}
	rights, err := st.Rights(access.Standpoint{Subject: role.ID}, time.Now())
	if err != nil {
		return 0, err
	}
	plan, err := emit.Make("SELECT count(*) FROM "+st.Model.Path(table.ID), nil, rights, &policy.Set{})
	if err != nil {
		return 0, err
	}
	return c.Count(ctx, plan)
}

// Count runs a plan that gives one number.
func (c *Counter) Count(ctx context.Context, plan *emit.Plan) (n int64, err error) {
	key := fmt.Sprint(plan.SQL, plan.Args)
	if n, ok := c.known[key]; ok {
		return n, nil
	}
	err = c.gateway.Run(ctx, c.who, c.lane, plan, source.Bind(plan.Args, c.gateway.Facts(time.Now())), func(row []any) error {
		n = row[0].(int64)
		return nil
	})
	if err == nil {
		c.known[key] = n
	}
	return n, err
}
