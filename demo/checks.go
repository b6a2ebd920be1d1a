package demo

import (
	"fmt"
	"time"

	"gneiss/core/access"
	"gneiss/service/identity"
	"gneiss/wire"
)

// checks states what must stay true, names a revision, takes a mistake back, and leaves a draft open.
func (m *maker) checks() {
	for _, g := range []wire.Guardrail{
		{Name: "finance-in-office", Kind: "clear", Mode: "block", Object: "label:finance", Except: []string{"role:licensing_officer", "role:data_curator",
			access.Administrator},
			Comment: "bank accounts and tax numbers are the licensing office's alone"},
		{Name: "finance-treated", Kind: "treated", Mode: "warn", Object: "label:finance"},
		{Name: "offices-apart", Kind: "apart", Mode: "block", Roles: []string{"role:partner", "role:licensing_officer"},
			Comment: "who asks for a licence does not give it"},
		{Name: "few-administrators", Kind: "administrators", Mode: "warn", Most: 3},
		{Name: "no-whole-source", Kind: "whole-source", Mode: "warn", Comment: "what an export was once given, and nobody has taken back"},
	} {
		if m.err == nil {
			_, m.err = m.svc.Admin.PutGuardrail(m.ctx, m.as, wire.GuardrailRequest{Guardrail: g})
		}
	}
	boreholes, none := "survey.drilling.boreholes", int64(0)
	for _, t := range []wire.AccessTest{
		{Name: "flint-north-only", Subject: "user:flint", Table: boreholes, Rows: &none, Where: "district <> 'north'", Comment: "geologists see their own districts"},
		{Name: "pumice-released-only", Subject: "service:pumice", Table: boreholes, Rows: &none, Where: "release_on > CURRENT_DATE OR release_on IS NULL"},
		{Name: "marl-nothing-yet", Subject: "user:marl", Table: boreholes, MayNot: []string{"SELECT", "INSERT", "UPDATE", "DELETE"}},
		{Name: "agate-no-rows", Subject: "user:agate", Table: boreholes, MayNot: []string{"SELECT"}, Comment: "the auditor reads the record, and no data"},
	} {
		if m.err == nil {
			_, m.err = m.svc.Admin.PutTest(m.ctx, m.as, wire.AccessTestRequest{AccessTest: t})
		}
	}
	for _, b := range []wire.BaselineRequest{
		{Subject: "user:flint", Table: boreholes}, {Subject: "user:jasper", Table: boreholes}, {Subject: "user:slate", Table: boreholes},
		{Subject: "user:chert", Table: boreholes}, {Subject: "user:tuff", Table: boreholes}, {Subject: "user:opal", Table: boreholes},
		{Subject: "user:garnet", Table: "survey.licensing.holders"}, {Subject: "user:beryl", Table: "survey.assay.samples"},
	} {
		if m.err == nil {
			b.Reason = "the baseline"
			_, m.err = m.svc.Admin.RecordTest(m.ctx, m.as, b)
		}
	}
	m.past()
	m.draft()
	m.review()
}

// review opens a review of the licensing office's tables, of which some is decided, and has marl ask for
// what marl was refused.
func (m *maker) review() {
	if m.err != nil {
		return
	}
	const name = "autumn-2026"
	if _, m.err = m.svc.Admin.OpenReview(m.ctx, m.as, wire.ReviewRequest{Name: name, Scope: wire.ReviewScope{Objects: []string{"survey.licensing"}},
		Due: time.Now().AddDate(0, 0, 19).Format(time.DateOnly), Reason: "twice a year"}); m.err != nil {
		return
	}
	page, err := m.svc.Review.Review(m.ctx, m.as, name, "", true)
	if err != nil {
		m.err = err
		return
	}
	for _, item := range page.List {
		decision := wire.ReviewDecision{Items: []int{item.Number}, Version: page.Version}
		switch item.Subject + " " + item.Via {
		case "user:garnet role:licensing_officer":
			decision.Decision = "keep"
		case "user:opal role:administrator": // opal does not decide on opal
			decision.Decision, decision.To = "hand", "user:agate"
		case "service:slag ":
			decision.Decision, decision.Word = "revoke", "the export it was for ended"
		default:
			continue
		}
		if _, m.err = m.svc.Admin.DecideReview(m.ctx, m.as, name, decision); m.err != nil {
			return
		}
		page.Version++
	}
	marl, err := m.svc.Admin.ActAs("user:marl")
	if m.err = err; err == nil {
		_, m.err = m.svc.Admin.Ask(m.ctx, marl, wire.AccessRequest{Object: "survey.assay.results", Reason: "results for the spring report"})
	}
}

// past gives the history something to look at: a mistake that was taken back, and a revision with a
// name.
func (m *maker) past() {
	if m.err != nil {
		return
	}
	_, m.err = m.svc.Admin.NameRevision(m.ctx, m.as, wire.RevisionName{Name: "as-opened", Revision: m.svc.Revision()})
	if m.err == nil {
		_, m.err = m.svc.Admin.Grant(m.ctx, m.as, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.monitoring",
			Subjects:  []string{"role:public_portal"},
			WithEntry: true, Ticket: "GS-77", Change: wire.Change{Reason: "the portal wants readings"}}, false)
	}
	if m.err == nil {
		_, m.err = m.svc.Admin.Undo(m.ctx, m.as, wire.UndoRequest{Revisions: []int64{m.svc.Revision()}, Change: wire.Change{Reason: "readings are not released yet"}})
	}
}

// draft leaves changes to be looked at before they are made.
func (m *maker) draft() {
	name := "portal-2027"
	if m.err == nil {
		_, m.err = m.svc.Admin.OpenDraft(m.ctx, m.as, wire.DraftRequest{Name: name, Reason: "partners see depths"})
	}
	for _, change := range []func(identity.Caller) (wire.Changed, error){
		func(c identity.Caller) (wire.Changed, error) {
			return m.svc.Admin.Grant(m.ctx, c, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.drilling", Subjects: []string{"role:partner"}}, false)
		},
		func(c identity.Caller) (wire.Changed, error) {
			return m.svc.Admin.Grant(m.ctx, c, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey", Subjects: []string{"service:slag"}}, true)
		},
		func(c identity.Caller) (wire.Changed, error) {
			return m.svc.Admin.SetPolicyStatus(m.ctx, c, "notes-in-short", wire.PolicyStatus{Status: "live", Change: wire.Change{Reason: "talked about in spring"}})
		},
	} {
		if m.err != nil {
			return
		}
		into, err := m.svc.Identity.Drafting(m.ctx, m.as, name)
		if err == nil {
			_, err = change(into)
		}
		if err != nil {
			m.err = fmt.Errorf("the draft: %w", err)
		}
	}
}
