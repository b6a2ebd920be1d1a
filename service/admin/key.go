package admin

import (
	"context"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/wire"
)

// RotateKey puts a new key in the place of that of pseudonyms and stable noise.
// From the next query on every pseudonym is another: those handed out before
// match each other, and none of those handed out after. The old key is gone.
func (s *Service) RotateKey(ctx context.Context, c identity.Caller, in wire.Change) (wire.Changed, error) {
	s.platform.Lock()
	defer s.platform.Unlock()
	st := s.platform.Current()
	out := wire.Changed{Revision: st.Revision, DryRun: in.DryRun, Says: []string{say.ReplacedKey.With()}, Effects: []wire.Effect{},
		Notes: []string{say.OtherPseudonyms.With()}}
	if err := s.identity.Administers(st, c, "the key of pseudonyms"); err != nil {
		return wire.Changed{}, err
	}
	if in.DryRun {
		return out, nil
	}
	record := c.Record(identity.Actor(st.Model, c), audit.Change, out.Says[0])
	record.Reason, record.Objects = in.Reason, audit.List([]string{st.Model.Path(access.PlatformID)})
	if err := s.audit.Write(record); err != nil {
		return wire.Changed{}, err
	}
	if err := s.gateway.RenewKey(); err != nil {
		return wire.Changed{}, err
	}
	out.Done = true
	return out, nil
}
