package review

import (
	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/audit"
	"gneiss/wire"
)

// Vocabulary has the names that are the same on every platform.
func Vocabulary() wire.Vocabulary {
	out := wire.Vocabulary{Levels: access.Levels, Actions: audit.Actions(), Decisions: audit.Decisions()}
	for p := access.Usage; p <= access.All; p++ {
		name := wire.PrivilegeName{Name: p.String(), Says: p.Says()}
		for _, kind := range p.Levels() {
			name.Levels = append(name.Levels, kind.String())
		}
		out.Privileges = append(out.Privileges, name)
	}
	for _, k := range policy.Treatments() {
		out.Treatments = append(out.Treatments, wire.TreatmentName{Kind: k.String(), Says: k.Says(), Types: append([]string{}, k.Types()...)})
	}
	return out
}
