package catalog

import (
	"strings"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// routine is a routine of the source's own, with its signature.
func (s *Session) routine(n int64) (*access.Object, sqltype.Signature, bool) {
	o := s.object(n)
	if o == nil || o.Kind != access.Routine {
		return nil, sqltype.Signature{}, false
	}
	sig, err := sqltype.ReadSignature(o.Type)
	return o, sig, err == nil
}

func (s *Session) routineResult(n int64) value {
	_, sig, ok := s.routine(n)
	if !ok {
		return nil
	}
	switch {
	case len(sig.Out) > 0:
		var parts []string
		for _, f := range sig.Out {
			parts = append(parts, quoteIdent(f.Name)+" "+f.Type)
		}
		return "TABLE(" + strings.Join(parts, ", ") + ")"
	case sig.Set:
		return "SETOF " + sig.Result
	}
	return sig.Result
}

func (s *Session) routineArguments(n int64) value {
	_, sig, ok := s.routine(n)
	if !ok {
		return nil
	}
	var parts []string
	for i, t := range sig.Args {
		if i < len(sig.Names) && sig.Names[i] != "" {
			t = quoteIdent(sig.Names[i]) + " " + t
		}
		parts = append(parts, t)
	}
	return strings.Join(parts, ", ")
}

func (s *Session) eachRoutine(f func(schema, o *access.Object, sig sqltype.Signature)) {
	for _, schema := range s.schemas() {
		for _, id := range schema.Children {
			if o := s.Model.Object(id); o.Kind == access.Routine && s.there(id) {
				if _, sig, ok := s.routine(numberOf(id)); ok {
					f(schema, o, sig)
				}
			}
		}
	}
}
