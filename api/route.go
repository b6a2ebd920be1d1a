package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"gneiss/service/admin"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

const prefix = "/api/v1"

// operation is one endpoint, as the document describes it.
type operation struct {
	method, path, summary string
	in, out               any
}

// request is what a handler gets beside its input.
type request struct {
	identity.Caller
	ctx   context.Context    // ends with the caller's connection
	stop  context.CancelFunc // ends ctx; a handler that answers with a stream calls it when the stream ends
	fiber fiber.Ctx
}

// answered says that a request has been answered by what handled it.
type answered struct {
	streams bool // the answer is a stream that is still being sent
}

func (answered) Error() string { return "answered" }

// handle registers an endpoint. The fields of In come from the path (uri tag),
// the query (query tag) and, for methods with a body, from JSON. What it
// answers, and the document, come from the same types.
func handle[In, Out any](s *Server, method, path, summary string, f func(request, In) (Out, error)) {
	s.routes = append(s.routes, operation{method, path, summary, new(In), new(Out)})
	at := aboutOf(method, path)
	s.app.Add([]string{method}, prefix+fiberPath(path), func(c fiber.Ctx) error {
		defer s.service.Working()()
		caller, err := s.caller(c)
		if err != nil {
			return err
		}
		look, err := at.moment(c)
		if err != nil {
			return err
		}
		in, err := bind[In](c, look)
		if err != nil {
			return err
		}
		ctx, stop := watched(c)
		streams := false
		defer func() {
			if !streams {
				stop()
			}
		}()
		if look != (wire.Moment{}) {
			if caller, err = s.looking(ctx, method, caller, look); err != nil {
				return s.service.Identity.Told(caller, err)
			}
		}
		caller.SetAside = strings.Clone(c.Query("set_aside"))
		r := request{Caller: caller, ctx: ctx, stop: stop, fiber: c}
		if match := strings.Trim(c.Get(fiber.HeaderIfMatch), `"`); match != "" {
			if r.IfMatch, err = strconv.ParseInt(match, 10, 64); err != nil {
				return badInput("If-Match takes the number of a revision, in quotes")
			}
		}
		read := s.service.Revision()
		out, err := f(r, in)
		if done, ok := err.(answered); ok {
			streams = done.streams
			return nil
		}
		if err != nil {
			if told := s.service.Identity.Told(caller, err); told.Code != "internal" {
				err = told
			}
			return err
		}
		return s.answer(c, out, read)
	})
}

// fiberPath turns {name} of the document into :name of the router.
func fiberPath(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

func badInput(detail string) error {
	return fault.New(fault.Malformed, "bad_request", "%s", detail)
}

// cookie is the name of the console's session, and consoleClient how the record calls the console.
const (
	cookie        = "gneiss_session"
	consoleClient = "console"
)

// caller authenticates a request: by bearer token, or by cookie, which for
// anything but reading wants the session's CSRF token too.
func (s *Server) caller(c fiber.Ctx) (identity.Caller, error) {
	if token, ok := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); ok {
		caller, err := s.service.Identity.Authenticate(c.Context(), token, s.address(c))
		caller.Client = clientOf(c.Get(fiber.HeaderUserAgent))
		return caller, err
	}
	secret := c.Cookies(cookie)
	if secret == "" {
		return identity.Caller{}, fault.New(fault.NotSignedIn, "not_signed_in", "sign in first")
	}
	caller, err := s.service.Identity.Authenticate(c.Context(), secret, s.address(c))
	if err != nil {
		return caller, err
	}
	caller.Client = consoleClient
	if c.Method() != fiber.MethodGet && (caller.CSRF() == "" || c.Get("X-CSRF-Token") != caller.CSRF()) {
		return caller, fault.New(fault.Refused, "csrf", "the request lacks the session's X-CSRF-Token; load the page again")
	}
	return caller, nil
}

// clientOf is the name of the program that a request comes from, as it says (RFC 9110, 10.1.5).
func clientOf(agent string) string {
	name, _, _ := strings.Cut(agent, "/")
	name, _, _ = strings.Cut(name, " ")
	return audit.Bounded(name, 64)
}

// csvSafe marks a request whose CSV is for a spreadsheet.
const csvSafe = "csv_safe"

// answer writes what a handler gives: JSON, or for rows the form that is asked for. Its ETag is the revision that
// it says it is of, else the one from before it was made: who sends it back as If-Match does not overwrite
// what they have not seen.
func (s *Server) answer(c fiber.Ctx, out any, read int64) error {
	if roster, ok := out.(wire.Roster); ok && c.Accepts(fiber.MIMEApplicationJSON, "text/csv") == "text/csv" {
		rows, err := admin.RosterCSV(roster, c.Query("part") == "memberships")
		if err != nil {
			return err
		}
		if c.Locals(csvSafe) == true {
			for _, row := range rows[1:] {
				for i := range row {
					row[i] = unformulated(row[i])
				}
			}
		}
		c.Set(fiber.HeaderContentType, "text/csv; charset=utf-8")
		return csv.NewWriter(c.Response().BodyWriter()).WriteAll(rows)
	}
	if v := reflect.Indirect(reflect.ValueOf(out)); v.Kind() == reflect.Struct {
		if of := v.FieldByName("Revision"); of.IsValid() && of.CanInt() && of.Int() > 0 {
			read = of.Int()
		}
	}
	c.Set("ETag", fmt.Sprintf("%q", strconv.FormatInt(read, 10)))
	return c.JSON(out)
}

// document makes the OpenAPI 3.1 document of all registered endpoints.
func (s *Server) document() []byte {
	r := openapi31.NewReflector()
	r.JSONSchemaReflector().DefaultOptions = append(r.JSONSchemaReflector().DefaultOptions, jsonschema.InterceptProp(alwaysThere))
	r.Spec.Info.WithTitle("Gneiss").WithVersion("1").WithDescription("Who may see and change what in shared tables.")
	for _, o := range s.routes {
		op, err := r.NewOperationContext(o.method, prefix+o.path)
		if err != nil {
			panic(fmt.Sprintf("api: %s %s: %v", o.method, o.path, err))
		}
		op.SetSummary(o.summary)
		op.AddReqStructure(o.in)
		if looks[o.method+" "+o.path] {
			op.AddReqStructure(new(momentIn))
		} else if fills(o.method, o.path) {
			op.AddReqStructure(new(draftIn))
		}
		op.AddRespStructure(o.out)
		op.AddRespStructure(new(wire.Problem), func(u *openapi.ContentUnit) { u.IsDefault, u.ContentType = true, "application/problem+json" })
		if err := r.AddOperation(op); err != nil {
			panic(fmt.Sprintf("api: %s %s: %v", o.method, o.path, err))
		}
	}
	document, err := json.MarshalIndent(r.Spec, "", "  ")
	if err != nil {
		panic(err)
	}
	return append(document, '\n')
}

// alwaysThere marks the fields that JSON never leaves out as required, and their
// lists as never null.
func alwaysThere(p jsonschema.InterceptPropParams) error {
	tag := p.Field.Tag.Get("json")
	if !p.Processed || tag == "" || tag == "-" || strings.Contains(tag, ",omit") {
		return nil
	}
	if !slices.Contains(p.ParentSchema.Required, p.Name) {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	if kind := p.Field.Type.Kind(); kind == reflect.Slice || kind == reflect.Map {
		p.PropertySchema.RemoveType(jsonschema.Null)
	}
	return nil
}

// Document returns the OpenAPI document, as every service serves it.
func Document() []byte {
	s := &Server{app: fiber.New()}
	s.register()
	return s.document()
}

func statusText(status int) string { return strconv.Itoa(status) }

func (s *Server) setCookie(c fiber.Ctx, secret string, expires time.Time) {
	c.Cookie(&fiber.Cookie{Name: cookie, Value: secret, Path: "/", Expires: expires, HTTPOnly: true, Secure: s.secure, SameSite: "Strict"})
}
