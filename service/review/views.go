package review

import (
	"context"
	"strings"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/service/identity"
	"gneiss/wire"
)

// viewOf describes a view; a sealed one's text is for who may describe it.
func viewOf(p *identity.Viewer, o *access.Object) *wire.View {
	w := &wire.View{
		Path:    p.Model.Path(o.ID),
		Text:    o.View.Text,
		Rights:  string(o.View.Rights),
		Sealed:  o.View.Sealed,
		Owner:   p.Model.Ref(o.Owner),
		Columns: []string{},
	}
	v := p.Resolve(o.ID)
	if !v.Allowed.Has(access.Describe) && (o.View.Sealed || !v.Allowed.Has(access.Select)) {
		w.Text = ""
	}
	for _, id := range o.Children {
		if !p.Model.Object(id).Missing {
			w.Columns = append(w.Columns, p.Model.Object(id).Name)
		}
	}
	return w
}

// viewTrouble is why a standpoint that holds SELECT on a view cannot read it, or nil.
func viewTrouble(p *identity.Viewer, o *access.Object) error {
	var columns []string
	v := p.Resolve(o.ID)
	for _, id := range o.Children {
		if c := p.Model.Object(id); !c.Missing && v.Covers(access.Select, id) {
			columns = append(columns, access.Quote(c.Name))
		}
	}
	_, err := p.State.Plan(context.Background(), p.Rights, query.Statement{SQL: "SELECT " + strings.Join(columns, ", ") + " FROM " + p.Model.Path(o.ID)})
	return err
}

// Views lists the views that the caller sees, below an object.
func (s *Service) Views(c identity.Caller, below string) (wire.List[wire.View], error) {
	out := wire.List[wire.View]{Items: []wire.View{}}
	st := s.identity.State(c)
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	root := st.Model.Object(access.PlatformID)
	if below != "" {
		if root, err = s.identity.Seen(p, below); err != nil {
			return out, err
		}
	}
	for _, o := range st.Model.Views(root.ID) {
		if p.Sees(o.ID) {
			out.Items = append(out.Items, *viewOf(p, o))
		}
	}
	return out, nil
}
