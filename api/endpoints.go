package api

import (
	"time"

	"github.com/gofiber/fiber/v3"

	"gneiss/service/review"
	"gneiss/wire"
)

// The inputs of endpoints that take more than a body.
type (
	none struct{}

	lookIn struct {
		Path  string `query:"path" description:"an object; the platform when empty"`
		Depth int    `query:"depth" description:"levels below it; 1 when not given"`
		wire.Standpoint
	}
	accessIn struct {
		Of      string `query:"of" description:"a subject: what it can do"`
		To      string `query:"to" description:"an object: who can do what with it"`
		Below   string `query:"below" description:"with of: only at and below this object"`
		Paths   bool   `query:"paths" description:"with the ways to each privilege"`
		Columns bool   `query:"columns" description:"with of: column by column, too"`
		After   string `query:"after" description:"a cursor"`
		Limit   int    `query:"limit" description:"items; 1,000 when not given, 10,000 at the most"`
		wire.Standpoint
	}
	compareIn struct {
		A     string `query:"a" required:"true" description:"a subject"`
		B     string `query:"b" required:"true" description:"another"`
		Below string `query:"below" description:"only at and below this object"`
	}
	whyIn struct {
		Subject   string `query:"subject" required:"true"`
		Privilege string `query:"privilege" required:"true"`
		Object    string `query:"object" required:"true"`
		wire.Standpoint
	}
	subjectsIn struct {
		Kind  string `query:"kind" enum:"user,service,group,role,public"`
		After string `query:"after" description:"a cursor"`
		Limit int    `query:"limit" description:"1,000 when not given; 5,000 at the most"`
	}
	refIn struct {
		Ref string `uri:"ref" path:"ref" json:"-"`
	}
	subjectEdit struct {
		refIn
		wire.SubjectRequest
	}
	removal struct {
		Name   string `uri:"name" path:"name" json:"-"`
		Reason string `query:"reason" json:"-" description:"kept in the journal"`
		DryRun bool   `query:"dry_run" json:"-" description:"show what it would do to whom, and do nothing"`
	}
	findingsIn struct {
		Administrators int `query:"administrators" description:"how many administrators are not too many; 3 when not given"`
	}
	rosterIn struct {
		CSVSafe bool   `query:"csv_safe" description:"in CSV, an apostrophe before texts that a spreadsheet would take for formulas"`
		Part    string `query:"part" enum:"subjects,memberships" description:"of CSV, which has one of the two; subjects when empty"`
	}
	tokensIn struct {
		Subject string `query:"subject" description:"the caller when empty; all for everybody's"`
	}
	grantsIn struct {
		Object  string `query:"object" description:"at and below this object"`
		Subject string `query:"subject"`
		Dormant bool   `query:"dormant" description:"only those that have no effect now"`
		After   string `query:"after" description:"a cursor"`
		Limit   int    `query:"limit" description:"1,000 when not given; 5,000 at the most"`
	}
	nameIn struct {
		Name string `uri:"name" path:"name" json:"-"`
	}
	sourceIn struct {
		Name string `uri:"name" path:"name" json:"-"`
	}
	scanIn struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.Change
	}
	adoption struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.AdoptRequest
	}
	disowning struct {
		Name   string `uri:"name" path:"name" json:"-"`
		View   string `uri:"view" path:"view" json:"-"`
		Reason string `query:"reason" json:"-" description:"kept in the journal"`
		DryRun bool   `query:"dry_run" json:"-" description:"show what it would do to whom, and do nothing"`
	}
	sourceSettings struct {
		Name string `uri:"name" path:"name" json:"-"`
		wire.SourceSettings
	}
	belowIn struct {
		Below string `query:"below" description:"a path; all when not given"`
	}
	recordsIn struct {
		Actor    string `query:"actor" description:"a subject: as itself, or stood in for"`
		Action   string `query:"action" enum:"query,write,preview,trial,matrix,sample,review,change,sign-in,password,token,session,draft,request,retention,webhook"`
		Decision string `query:"decision" enum:"allowed,refused,failed,unknown"`
		Contains string `query:"contains" description:"a text in the statement, the objects or the reason"`
		Label    string `query:"label" description:"that what was read or written has"`
		Running  bool   `query:"running" description:"only what has not ended"`
		From     string `query:"from" description:"a day or time: then or later"`
		Until    string `query:"until" description:"a day, which is included, or a time"`
		Address  string `query:"address"`
		Client   string `query:"client" description:"the name of the program"`
		Object   string `query:"object" description:"of what was read or written, or below it"`
		Purpose  string `query:"purpose" description:"that was declared"`
		Role     string `query:"role" description:"by which it was allowed, or that was acted in"`
		Others   bool   `query:"others" description:"only what somebody did as somebody else"`
		Behind   string `query:"behind" description:"the reference of a record: only later ones, oldest first"`
		Before   string `query:"before" description:"a cursor"`
		Limit    int    `query:"limit"`
	}
	searchIn struct {
		Text  string `query:"text"`
		After string `query:"after" description:"a cursor"`
		Limit int    `query:"limit" description:"40 when not given"`
		wire.Standpoint
	}
)

// register lists the endpoints.
func (s *Server) register() {
	svc := s.service
	s.signIn()
	s.drafts()
	s.matrix()
	s.use()
	s.requests()
	s.reviews()
	handle(s, "GET", "/session", "who is signed in, and as whom this request looks", func(r request, in wire.Standpoint) (wire.Session, error) {
		return svc.Identity.Whoami(r.Caller, in)
	})
	handle(s, "DELETE", "/session", "sign out", func(r request, _ none) (none, error) {
		s.setCookie(r.fiber, "", time.Unix(0, 0))
		return none{}, svc.Identity.SignOut(r.ctx, r.Caller)
	})

	handle(s, "GET", "/tree", "what a standpoint sees at and below an object", func(r request, in lookIn) (wire.Node, error) {
		if in.Depth == 0 {
			in.Depth = 1
		}
		return svc.Review.Tree(r.Caller, in.Path, in.Depth, in.Standpoint)
	})
	handle(s, "GET", "/object", "the page of one object from a standpoint", func(r request, in lookIn) (wire.Object, error) {
		return svc.Review.Object(r.Caller, in.Path, in.Standpoint)
	})
	handle(s, "GET", "/access", "effective access, of a subject or to an object", func(r request, in accessIn) (wire.AccessList, error) {
		q := review.AccessSearch{Of: in.Of, At: in.Standpoint, Below: in.Below, Columns: in.Columns, To: in.To, Paths: in.Paths, After: in.After, Limit: in.Limit}
		if in.Of == "" {
			return svc.Review.AccessTo(r.Caller, q)
		}
		return svc.Review.AccessOf(r.Caller, q)
	})
	handle(s, "GET", "/why", "why a subject may do something, or what is missing", func(r request, in whyIn) (wire.Why, error) {
		return svc.Review.Why(r.Caller, in.Subject, in.Privilege, in.Object, in.Standpoint)
	})
	handle(s, "GET", "/comparison", "where two subjects differ in what they can do", func(r request, in compareIn) (wire.Comparison, error) {
		return svc.Review.Compare(r.Caller, in.A, in.B, in.Below)
	})
	handle(
		s,
		"GET",
		"/findings",
		"findings: rights, subjects and policies to review",
		func(r request, in findingsIn) (wire.List[wire.Finding], error) {
			return svc.Review.Findings(r.ctx, r.Caller, in.Administrators)
		},
	)
	handle(
		s,
		"GET",
		"/vocabulary",
		"names that are the same on every platform: privileges, treatments, levels, actions",
		func(request, none) (wire.Vocabulary, error) {
			words := review.Vocabulary()
			words.Looks, words.Fills = s.momentous()
			return words, nil
		},
	)
	handle(s, "GET", "/search", "find subjects, objects and policies by name", func(r request, in searchIn) (wire.List[wire.Found], error) {
		return svc.Review.Search(r.Caller, in.Text, in.Standpoint, in.After, in.Limit)
	})

	handle(s, "GET", "/subjects", "users, services, groups and roles", func(r request, in subjectsIn) (wire.List[wire.Subject], error) {
		return svc.Review.Subjects(r.Caller, review.SubjectSearch(in))
	})
	handle(s, "POST", "/subjects", "add a subject", func(r request, in wire.SubjectRequest) (wire.Changed, error) {
		return svc.Admin.PutSubject(r.ctx, r.Caller, in, false)
	})
	handle(s, "GET", "/subjects/{ref}", "the page of one subject", func(r request, in refIn) (wire.SubjectPage, error) {
		return svc.Review.Subject(r.Caller, in.Ref)
	})
	handle(s, "PATCH", "/subjects/{ref}", "change a subject", func(r request, in subjectEdit) (wire.Changed, error) {
		in.Subject = in.Ref
		return svc.Admin.PutSubject(r.ctx, r.Caller, in.SubjectRequest, true)
	})
	handle(s, "DELETE", "/subjects/{name}", "remove a subject, by reference", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveSubject(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "GET", "/roster", "export subjects with attributes and memberships", func(r request, in rosterIn) (wire.Roster, error) {
		r.fiber.Locals(csvSafe, in.CSVSafe)
		return svc.Review.Roster(r.Caller)
	})
	handle(
		s,
		"POST",
		"/roster",
		"import subjects and memberships: all of them, or none",
		func(r request, in wire.RosterRequest) (wire.Changed, error) {
			return svc.Admin.TakeRoster(r.ctx, r.Caller, in)
		},
	)
	handle(s, "POST", "/password", "change one's own password", func(r request, in wire.PasswordRequest) (wire.Changed, error) {
		return svc.Identity.ChangePassword(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/tokens", "sessions and tokens", func(r request, in tokensIn) (wire.List[wire.Token], error) {
		return svc.Identity.Tokens(r.ctx, r.Caller, in.Subject)
	})
	handle(s, "POST", "/tokens", "make a token; its secret is shown once", func(r request, in wire.TokenRequest) (wire.NewToken, error) {
		return svc.Identity.NewToken(r.ctx, r.Caller, in)
	})
	handle(
		s,
		"GET",
		"/sql-sessions",
		"connections to the SQL port: one's own, or for who administers or audits all",
		func(r request, _ none) (wire.List[wire.SQLSession], error) {
			return svc.Identity.Sessions(r.Caller), nil
		},
	)
	handle(s, "DELETE", "/sql-sessions/{name}", "end a connection to the SQL port, by its id", func(r request, in nameIn) (wire.Changed, error) {
		return svc.Identity.EndSession(r.Caller, in.Name)
	})
	handle(s, "DELETE", "/tokens/{name}", "end a session or token, by its id", func(r request, in nameIn) (wire.Changed, error) {
		return svc.Identity.EndToken(r.ctx, r.Caller, in.Name)
	})
	handle(s, "POST", "/memberships", "put a member in a group, or give it a role", func(r request, in wire.Member) (wire.Changed, error) {
		return svc.Admin.Join(r.ctx, r.Caller, in, false)
	})
	handle(s, "POST", "/memberships/end", "take a member out of a group, or a role from it", func(r request, in wire.Member) (wire.Changed, error) {
		return svc.Admin.Join(r.ctx, r.Caller, in, true)
	})

	handle(
		s,
		"GET",
		"/grants",
		"grants, and why they have no effect where they have none",
		func(r request, in grantsIn) (wire.List[wire.Grant], error) {
			return svc.Review.Grants(r.Caller, review.GrantSearch(in))
		},
	)
	handle(s, "POST", "/grants", "grant privileges", func(r request, in wire.GrantRequest) (wire.Changed, error) {
		return svc.Admin.Grant(r.ctx, r.Caller, in, false)
	})
	handle(s, "POST", "/grants/revoke", "revoke privileges", func(r request, in wire.GrantRequest) (wire.Changed, error) {
		return svc.Admin.Grant(r.ctx, r.Caller, in, true)
	})

	handle(s, "POST", "/owners", "give objects another owner", func(r request, in wire.OwnerRequest) (wire.Changed, error) {
		return svc.Admin.SetOwner(r.ctx, r.Caller, in)
	})
	handle(s, "GET", "/bundles", "named sets of privileges", func(r request, _ none) (wire.List[wire.Bundle], error) {
		return svc.Review.Bundles(r.Caller)
	})
	handle(
		s,
		"POST",
		"/bundles",
		"add a bundle, or change what it and its grants give",
		func(r request, in wire.BundleRequest) (wire.Changed, error) {
			return svc.Admin.PutBundle(r.ctx, r.Caller, in)
		},
	)
	handle(s, "DELETE", "/bundles/{name}", "remove a bundle", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveBundle(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "GET", "/lanes", "where queries run", func(r request, _ none) (wire.List[wire.Lane], error) {
		return svc.Review.Lanes(r.Caller)
	})
	handle(s, "POST", "/lanes", "add a lane, or change its limits", func(r request, in wire.LaneRequest) (wire.Changed, error) {
		return svc.Admin.PutLane(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/lanes/{name}", "remove a lane", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveLane(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})

	s.policies()
	handle(s, "GET", "/views", "named queries", func(r request, in belowIn) (wire.List[wire.View], error) {
		return svc.Review.Views(r.Caller, in.Below)
	})
	handle(s, "POST", "/views", "make or replace a view", func(r request, in wire.ViewRequest) (wire.Changed, error) {
		return svc.Admin.PutView(r.ctx, r.Caller, in)
	})
	handle(s, "DELETE", "/views/{name}", "remove a view, by its path", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.DropView(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "GET", "/sources", "connected databases", func(r request, _ none) (wire.List[wire.Source], error) {
		return svc.Review.Sources(r.ctx, r.Caller)
	})
	handle(s, "POST", "/sources", "connect a database and scan it", func(r request, in wire.SourceRequest) (wire.Changed, error) {
		return svc.Admin.AddSource(r.ctx, r.Caller, in)
	})
	handle(s, "POST", "/sources/{name}/scan", "look at a source again", func(r request, in scanIn) (wire.Changed, error) {
		return svc.Admin.Scan(r.ctx, r.Caller, in.Name, in.Change)
	})
	const checks = "what the account of a source may, what is missing, how fast it is"
	handle(s, "GET", "/sources/{name}/check", checks, func(r request, in sourceIn) (wire.SourceCheck, error) {
		return svc.Review.CheckSource(r.ctx, r.Caller, in.Name)
	})
	const views = "the views of a source's database, and what they read"
	handle(s, "GET", "/sources/{name}/views", views, func(r request, in sourceIn) (wire.List[wire.DatabaseView], error) {
		return svc.Admin.DatabaseViews(r.ctx, r.Caller, in.Name)
	})
	handle(s, "POST", "/sources/{name}/views", "take a view of the database in, as a table", func(r request, in adoption) (wire.Changed, error) {
		return svc.Admin.Adopt(r.ctx, r.Caller, in.Name, in.AdoptRequest)
	})
	handle(s, "DELETE", "/sources/{name}/views/{view}", "leave a view of the database out again", func(r request, in disowning) (wire.Changed, error) {
		return svc.Admin.Disown(r.ctx, r.Caller, in.Name, in.View, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(s, "PATCH", "/sources/{name}", "change where a source is", func(r request, in sourceSettings) (wire.Changed, error) {
		return svc.Admin.SetSource(r.ctx, r.Caller, in.Name, in.SourceSettings)
	})
	handle(s, "DELETE", "/sources/{name}", "disconnect a source", func(r request, in removal) (wire.Changed, error) {
		return svc.Admin.RemoveSource(r.ctx, r.Caller, in.Name, wire.Change{Reason: in.Reason, DryRun: in.DryRun})
	})
	handle(
		s,
		"POST",
		"/queries",
		"run a governed query; rows come as JSON, CSV or JSON lines",
		func(r request, in wire.QueryRequest) (wire.Result, error) {
			return wire.Result{}, s.queried(r, in)
		},
	)
	handle(
		s,
		"POST",
		"/previews",
		"the rows of a table from one or more standpoints, side by side",
		func(r request, in wire.PreviewRequest) (wire.Preview, error) {
			return svc.Review.Preview(r.ctx, r.Caller, in)
		},
	)
	s.records()
	handle(
		s,
		"GET",
		"/records/verification",
		"check that no entry of the record was altered or is gone",
		func(r request, _ none) (wire.Verification, error) {
			return svc.Review.VerifyRecord(r.ctx, r.Caller)
		},
	)
	handle(
		s,
		"GET",
		"/journal/verification",
		"check that no change in the journal was altered or is gone",
		func(r request, _ none) (wire.Verification, error) {
			return svc.Review.VerifyJournal(r.ctx, r.Caller)
		},
	)
	handle(s, "GET", "/records/{ref}", "one line of the record, with the fixes for a refusal", func(r request, in refIn) (wire.Record, error) {
		return svc.Review.Record(r.ctx, r.Caller, in.Ref)
	})
}

// signIn registers the one endpoint that takes callers who are not signed in.
func (s *Server) signIn() {
	s.routes = append(s.routes, operation{"POST", "/session", "sign in", new(wire.SignIn), new(wire.Session)})
	s.app.Post(prefix+"/session", func(c fiber.Ctx) error {
		in, err := bind[wire.SignIn](c, wire.Moment{})
		if err != nil {
			return err
		}
		with := consoleClient
		if in.Token {
			with = clientOf(c.Get(fiber.HeaderUserAgent))
		}
		secret, out, err := s.service.Identity.SignIn(c.Context(), in, s.address(c), with)
		if err != nil {
			return err
		}
		if in.Token {
			out.Token = secret
		} else {
			s.setCookie(c, secret, out.Expires)
		}
		return c.JSON(out)
	})
}
