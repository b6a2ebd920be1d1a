package gateway

import (
	"fmt"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/fault"
	"gneiss/service/identity"
)

// Lane is where a standpoint's query runs: the lane of the name, or the first
// that is open. A role or group alone runs nothing in real life; looked at from
// there, the caller's own lane serves.
func (s *Service) Lane(c identity.Caller, p *identity.Viewer, name string) (*access.Object, error) {
	rights := p.Rights
	if !p.Model.Subject(p.Standpoint.Subject).Acts() {
		own, err := s.identity.Own(p.State, c)
		if err != nil {
			return nil, err
		}
		rights = own
	}
	open := rights.MayRun()
	if name == "" && len(open) > 0 {
		return open[0], nil
	}
	want, err := p.Model.FindLane(orFirst(name))
	if err != nil && name == "" && len(p.Model.Lanes()) > 0 {
		want, err = p.Model.Lanes()[0], nil
	}
	if err == nil {
		for _, o := range open {
			if o.ID == want.ID {
				return o, nil
			}
		}
	}
	if name != "" && (err != nil || !p.Reviews && !rights.Sees(want.ID)) {
		return nil, fault.New(fault.NotFound, "not_found", "there is no lane %s, or it is not yours to use", name)
	}
	return nil, &query.Error{Code: query.Refused, Text: fmt.Sprintf("you lack USAGE on %s: a query needs a lane to run on", p.Model.Path(want.ID)),
		Needs: []access.Need{{Privilege: access.Usage, Object: want.ID}}}
}

func orFirst(name string) string {
	if name == "" {
		return access.FirstLane
	}
	return name
}

// Running is how many queries run on a lane now.
func (s *Service) Running(lane access.ObjectID) int { return s.traffic.on(lane) }
