package admin

import (
	"context"
	"fmt"
	"time"

	"gneiss/core/access"
	"gneiss/core/outline"
	"gneiss/core/policy"
	"gneiss/service/fault"
	"gneiss/service/files"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// Files are what administrators decided, as files for version control.
func (s *Service) Files(c identity.Caller) (wire.Files, error) {
	st := s.identity.State(c)
	out := wire.Files{Files: []wire.File{}, Revision: st.Revision}
	if !s.identity.Reviews(st, c) {
		return out, identity.Wants(st.Authority(), access.Describe, access.PlatformID)
	}
	for _, f := range files.Write(outline.Decided(of(st))) {
		out.Files = append(out.Files, wire.File{Path: f.Path, Text: f.Text})
	}
	return out, nil
}

// FileSchemas are the JSON Schemas of the files, by which editors complete and check them.
func (s *Service) FileSchemas() (wire.Files, error) {
	out := wire.Files{Revision: s.platform.Current().Revision}
	for _, kind := range files.Kinds() {
		text, err := files.Schema(kind)
		if err != nil {
			return out, err
		}
		out.Files = append(out.Files, wire.File{Path: kind + ".schema.json", Text: string(text)})
	}
	return out, nil
}

// CompareFiles says where files differ from what is there.
func (s *Service) CompareFiles(c identity.Caller, in wire.FilesRequest) (wire.FilesCompared, error) {
	st := s.identity.State(c)
	out := wire.FilesCompared{Differs: []wire.Differs{}, Revision: st.Revision}
	if err := s.identity.Administers(st, c, "files"); err != nil {
		return out, err
	}
	_, differs, err := s.asked(st, c, in)
	for _, d := range differs {
		out.Differs = append(out.Differs, wire.Differs{Name: d.Name(), How: howOf(d)})
	}
	return out, err
}

func howOf(d outline.Difference) string {
	switch {
	case d.Before == nil:
		return "added"
	case d.After == nil:
		return "removed"
	}
	return "changed"
}

// asked are the changes that make a state what files ask for, and what differs by them. What is in none
// of the files that there are stays.
func (s *Service) asked(st *platform.State, c identity.Caller, in wire.FilesRequest) ([]platform.Change, []outline.Difference, error) {
	var list []files.File
	for _, f := range in.Files {
		list = append(list, files.File{Path: f.Path, Text: f.Text})
	}
	decided := outline.Decided(of(st))
	wanted, err := files.Read(list, files.Write(decided), st.Model.Ref(c.User))
	if err != nil {
		return nil, nil, err
	}
	wanted.Whole = in.Whole
	var changes []platform.Change
	after, now := st, time.Now().UTC()
	for _, step := range outline.Steps(wanted.Differ(decided)) {
		at := func(err error) error {
			if line := wanted.Lines[step.Name()]; line != "" {
				return fault.New(fault.Invalid, "bad_file", "%s: %s", line, s.identity.Told(c, err).Detail)
			}
			return fault.New(fault.Conflict, "bad_file", "%s cannot be removed: %s", step.Name(), s.identity.Told(c, err).Detail)
		}
		for _, change := range step.Changes {
			bound, err := s.boundTo(after, c, change)
			if err != nil {
				return nil, nil, at(err)
			}
			if after, err = after.Apply(bound, now); err != nil {
				return nil, nil, at(err)
			}
			changes = append(changes, bound)
		}
	}
	return changes, outline.Between(st.Model, of(st), of(after)), nil
}

// boundTo completes a change that files do not say in full: what the text of a policy or view names.
func (s *Service) boundTo(st *platform.State, c identity.Caller, change platform.Change) (platform.Change, error) {
	switch p := change.(type) {
	case policy.PutRowPolicy:
		return s.bound(st, c, p, p.Table)
	case policy.PutColumnPolicy:
		table := p.Label
		if table == "" && len(p.Columns) > 0 {
			if o, err := st.Model.Lookup(p.Columns[0]); err == nil {
				table = st.Model.Path(o.Parent)
			} else if within, pattern := access.CutPattern(p.Columns[0]); pattern != "" {
				table = within
			}
		}
		return s.bound(st, c, p, table)
	case access.PutView:
		own, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
		if err != nil {
			return nil, err
		}
		o, err := s.viewOrder(own, c, wire.ViewRequest{Path: p.Path, Text: p.Text, Rights: string(p.Rights), Sealed: p.Sealed, Replace: true})
		if err != nil {
			return nil, err
		}
		return o.changes[0], nil
	}
	return change, nil
}

// LoadFiles makes what files ask for: one revision, or a step of a draft.
func (s *Service) LoadFiles(ctx context.Context, c identity.Caller, in wire.FilesRequest) (wire.Changed, error) {
	st := s.identity.State(c)
	if err := s.identity.Administers(st, c, "files"); err != nil {
		return wire.Changed{}, err
	}
	if c.IfMatch == 0 && c.Draft() == nil {
		c.IfMatch = st.Revision // what is worked out here is for this state
	}
	changes, differs, err := s.asked(st, c, in)
	if err != nil {
		return wire.Changed{}, err
	}
	if len(differs) == 0 {
		out := s.saidOnly(st, say.NothingToLoad.With())
		out.Done = false
		return out, nil
	}
	o := order{caller: c, Change: in.Change, changes: changes,
		says: append([]string{say.LoadedFiles.With(say.Count(len(in.Files), "file"))}, differSays(differs)...)}
	return s.carryOut(ctx, o)
}

// differSays says what differs, of much the first.
func differSays(differs []outline.Difference) []string {
	var says []string
	for i, d := range differs {
		if i == mostLoaded {
			return append(says, say.AndMore.With(len(differs)-i))
		}
		says = append(says, fmt.Sprintf("%s %s", howOf(d), d.Name()))
	}
	return says
}

// mostLoaded bounds what is said one by one of a load.
const mostLoaded = 50
