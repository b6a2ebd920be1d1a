package api

import (
	"context"
	"fmt"
	"strings"

	"github.com/gofiber/fiber/v3"

	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// Which state a request is about is said in its query string, for all endpoints alike: what is read
// can be read through a draft or as of a moment, and what is changed can go into a draft.
type (
	momentIn struct {
		wire.Moment
	}
	draftIn struct {
		Draft    string `query:"draft" json:"-" description:"put the change into this draft; it takes effect when that is published"`
		SetAside string `query:"set_aside" json:"-" description:"guardrails to set aside for this change, with commas between them; it takes a reason"`
	}
)

// looks are the endpoints that read the model.
var looks = map[string]bool{
	"GET /tree": true, "GET /object": true, "GET /access": true, "GET /why": true, "GET /comparison": true, "GET /findings": true, "GET /search": true,
	"GET /subjects": true, "GET /subjects/{ref}": true, "GET /roster": true, "GET /grants": true, "GET /bundles": true, "GET /lanes": true,
	"GET /views": true, "GET /policies": true, "GET /labelled-columns": true, "GET /labels": true, "GET /relationships": true, "GET /matrix": true,
	"GET /history": true, "GET /checks": true, "GET /files": true, "GET /access-matrix": true, "GET /check-results": true,
}

// immediate are the endpoints whose changes take effect outside of the model, or are about drafts
// themselves.
var immediate = map[string]bool{
	"POST /session": true, "DELETE /session": true, "POST /password": true, "POST /tokens": true,
	"DELETE /tokens/{name}": true, "DELETE /sql-sessions/{name}": true, "POST /queries": true, "POST /previews": true,
	"POST /sources": true, "POST /sources/{name}/scan": true, "POST /sources/{name}/views": true,
	"DELETE /sources/{name}/views/{view}": true, "PATCH /sources/{name}": true, "DELETE /sources/{name}": true,
	"POST /pseudonym-key": true, "POST /drafts": true, "DELETE /drafts/{name}": true,
	"DELETE /drafts/{name}/steps/{number}": true, "POST /drafts/{name}/publication": true, "POST /revision-names": true,
	"POST /policies/trial": true, "POST /use/take-back": true, "POST /anchor/verification": true,
	"POST /records/pruning": true, "POST /requests": true, "POST /reviews": true,
	"POST /reviews/{name}/decisions": true, "POST /reviews/{name}/closing": true,
	"POST /requests/{number}/decision": true, "POST /webhooks": true, "DELETE /webhooks/{name}": true,
	"POST /webhooks/{name}/try": true,
}

// fills reports whether what an endpoint changes can go into a draft.
func fills(method, path string) bool { return method != "GET" && !immediate[method+" "+path] }

// momentous lists the endpoints that look at other states, and those that fill drafts.
func (s *Server) momentous() (reads, changes []string) {
	for _, o := range s.routes {
		switch name := o.method + " " + o.path; {
		case looks[name]:
			reads = append(reads, name)
		case fills(o.method, o.path):
			changes = append(changes, name)
		}
	}
	return reads, changes
}

// about says which parameters for other states than the current one an endpoint takes.
type about struct {
	name     string // its method and path
	looking  bool   // it can read a draft or a past moment
	filling  bool   // its change can go into a draft
	breaking bool   // its change can set guardrails aside
}

func aboutOf(method, path string) about {
	name, filling := method+" "+path, fills(method, path)
	return about{name, looks[name], filling, filling || name == "POST /drafts/{name}/publication"}
}

// moment returns the state that a request is about.
func (a about) moment(c fiber.Ctx) (wire.Moment, error) {
	m := wire.Moment{Draft: c.Query("draft"), At: c.Query("at")}
	if m.At != "" && a.filling {
		return m, fault.New(fault.Invalid, "past", "what was cannot be changed: return to now, or undo a revision")
	}
	if m.At != "" && !a.looking || m.Draft != "" && !a.looking && !a.filling {
		return m, badInput(a.name + " is about what is now: it takes neither a draft nor a moment")
	}
	if c.Query("set_aside") != "" && !a.breaking {
		return m, badInput(a.name + " breaks no guardrail")
	}
	if len(m.Draft) > longest || len(m.At) > longest || len(c.Query("set_aside")) > longest {
		return m, badInput(fmt.Sprintf("a draft or moment is longer than %d bytes", longest))
	}
	return m, nil
}

// looking has a caller ask about another state.
func (s *Server) looking(ctx context.Context, method string, c identity.Caller, m wire.Moment) (identity.Caller, error) {
	if method == "GET" {
		return s.service.Identity.Looking(ctx, c, m)
	}
	return s.service.Identity.Drafting(ctx, c, m.Draft)
}

// listOf takes a list apart at its commas.
func listOf(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// The inputs of endpoints about drafts and history.
type (
	historyIn struct {
		Of     string `query:"of" description:"an object, a subject or a policy: only revisions about it"`
		Before int    `query:"after" description:"a cursor"`
		Limit  int    `query:"limit" description:"50 when not given; 500 at the most"`
	}
	momentsIn struct {
		From string `query:"from" required:"true" description:"a moment: a revision, a day, a time or a label"`
		With string `query:"with" description:"another; now when empty"`
		Of   string `query:"of" description:"a subject, or an object: only what is about it"`
	}
	checkIn struct {
		Names string `query:"names" description:"of some, with commas between them; all when empty"`
	}
	stepIn struct {
		Name   string `uri:"name" path:"name" json:"-"`
		Number int    `uri:"number" path:"number" json:"-"`
	}
	publicationIn struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.Change
	}
)

func (s *Server) drafts() {
	svc := s.service
	handle(s, "GET", "/files", "what administrators decided, as files for version control", func(r request, _ none) (wire.Files, error) {
		return svc.Admin.Files(r.Caller)
	})
	handle(s, "GET", "/files/schemas", "the JSON Schemas of the files", func(request, none) (wire.Files, error) {
		return svc.Admin.FileSchemas()
	})
	handle(s, "POST", "/files/comparison", "where files differ from what is there", func(r request, in wire.FilesRequest) (wire.FilesCompared, error) {
		return svc.Admin.CompareFiles(r.Caller, in)
	})
	handle(s, "POST", "/files", "load files", func(r request, in wire.FilesRequest) (wire.Changed, error) {
		return svc.Admin.LoadFiles(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/checks", "guardrails and access tests", func(r request, _ none) (wire.Checks, error) {
		return svc.Review.Checks(r.Caller)
	})
	handle(s, "GET", "/check-results", "run guardrails and access tests", func(r request, in checkIn) (wire.CheckResults, error) {
		return svc.Review.Check(r.ctx, r.Caller, listOf(in.Names))
	})
	handle(s, "POST", "/guardrails", "add a guardrail, or replace one", func(r request, in wire.GuardrailRequest) (wire.Changed, error) {
		return svc.Admin.PutGuardrail(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/guardrails/{name}", "remove a guardrail", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveGuardrail(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "POST", "/access-tests", "add an access test, or replace one", func(r request, in wire.AccessTestRequest) (wire.Changed, error) {
		return svc.Admin.PutTest(r.ctx, r.Caller, in)
	})
	handle(s, "POST", "/access-tests/baseline", "make an access test of how things stand", func(r request, in wire.BaselineRequest) (wire.Changed, error) {
		return svc.Admin.RecordTest(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/access-tests/{name}", "remove an access test", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveTest(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "GET", "/webhooks", "where other systems are told of what happens", func(r request, _ none) (wire.List[wire.Webhook], error) {
		return svc.Admin.Webhooks(r.ctx, r.Caller)
	})
	handle(s, "POST", "/webhooks", "add a webhook, or change one", func(r request, in wire.WebhookRequest) (wire.WebhookMade, error) {
		return svc.Admin.PutWebhook(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/webhooks/{name}", "remove a webhook", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveWebhook(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "POST", "/webhooks/{name}/try", "send it an event, and say what came of it", func(r request, in nameIn) (wire.WebhookTried, error) {
		return svc.Admin.TryWebhook(r.ctx, r.Caller, in.Name)
	})
	handle(s, "GET", "/history", "revisions, newest first: who changed what, when, why, and what came of it", func(r request,
		in historyIn) (wire.List[wire.Past], error) {
		return svc.Review.History(r.ctx, r.Caller, in.Of, int64(in.Before), in.Limit)
	})
	handle(s, "GET", "/moments", "what differs between two moments", func(r request, in momentsIn) (wire.Between, error) {
		if in.With == "" {
			in.With = "now"
		}
		return svc.Review.CompareMoments(r.ctx, r.Caller, in.From, in.With, in.Of)
	})
	handle(s, "POST", "/undo", "take revisions back, by a new one", func(r request, in wire.UndoRequest) (wire.Changed, error) {
		return svc.Admin.Undo(r.ctx, r.Caller, in)
	})
	handle(s, "POST", "/revision-names", "name a revision", func(r request, in wire.RevisionName) (wire.Changed, error) {
		return svc.Admin.NameRevision(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/drafts", "the open drafts, and the last that were closed", func(r request, _ none) (wire.List[wire.Draft], error) {
		return svc.Review.Drafts(r.ctx, r.Caller)
	})
	handle(s, "POST", "/drafts", "open a draft", func(r request, in wire.DraftRequest) (wire.Changed, error) {
		return svc.Admin.OpenDraft(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/drafts/{name}", "one open draft, with what is in it", func(r request, in nameIn) (wire.Draft, error) {
		return svc.Review.Draft(r.ctx, r.Caller, in.Name)
	})
	handle(s, "GET", "/drafts/{name}/changes", "it by itself, to be opened elsewhere", func(r request, in nameIn) (wire.DraftText, error) {
		return svc.Admin.ExportDraft(r.ctx, r.Caller, in.Name)
	})
	handle(s, "GET", "/drafts/{name}/impact", "who would gain and who would lose what by it", func(r request, in nameIn) (wire.Impact, error) {
		return svc.Review.Impact(r.ctx, r.Caller, in.Name)
	})
	handle(s, "POST", "/drafts/{name}/publication", "make all of it one revision", func(r request, in publicationIn) (wire.Changed, error) {
		return svc.Admin.PublishDraft(r.ctx, r.Caller, in.Name, in.Change)
	})
	handle(s, "DELETE", "/drafts/{name}", "drop it, with all that is in it", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.DropDraft(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "DELETE", "/drafts/{name}/steps/{number}", "take one change out of it", func(r request, in stepIn) (wire.Changed, error) {
		return svc.Admin.DropStep(r.ctx, r.Caller, in.Name, int64(in.Number))
	})
}
