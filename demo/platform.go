package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/wire"
)

// Password is every demo account's, when no other is given.
const Password = "northmark"

// An Account is one of the demo's.
type Account struct{ Ref, Title string }

// Accounts are those that the demo's story needs.
var Accounts = []Account{
	{"user:opal", "administrator"},
	{"user:agate", "auditor"},
	{"user:flint", "geologist of the north"},
	{"user:jasper", "geologist of the coast"},
	{"user:slate", "geologist of basin and highland"},
	{"user:chert", "lead of the geologists"},
	{"user:beryl", "laboratory analyst"},
	{"user:garnet", "licensing officer"},
	{"user:tuff", "of a partner company: its own licences' boreholes"},
	{"user:marl", "new, with no rights yet"},
	{"service:pumice", "the public portal: released data only"},
}

// Make makes the demo platform in a data folder. The folder appears whole or
// not at all; one that is there already is left as it is.
func Make(ctx context.Context, dir, password string, progress io.Writer) error {
	if _, err := os.Stat(filepath.Join(dir, "records.db")); err == nil {
		return moveTables(dir)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return fmt.Errorf("the folder %s has other files in it; name an empty or a new one", dir)
	}
	making := filepath.Clean(dir) + ".making"
	if err := os.RemoveAll(making); err != nil {
		return err
	}
	fmt.Fprintln(progress, "Making the survey's tables …")
	if err := WriteData(filepath.Join(making, "sources", "survey")); err != nil {
		return err
	}
	fmt.Fprintln(progress, "Making accounts, roles, grants and policies …")
	if err := makeModel(ctx, making, password); err != nil {
		return err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(filepath.Clean(dir)), 0o755); err != nil {
		return err
	}
	return os.Rename(making, dir)
}

// moveTables brings the tables of a demo that an earlier version made to where sources
// lie now.
func moveTables(dir string) error {
	old, now := filepath.Join(dir, "survey"), filepath.Join(dir, "sources", "survey")
	if _, err := os.Stat(old); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if _, err := os.Stat(now); err == nil {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(now), 0o700); err != nil {
		return err
	}
	return os.Rename(old, now)
}

func makeModel(ctx context.Context, dir, password string) error {
	now := time.Now().UTC()
	clock := &clock{at: now.AddDate(0, 0, -began).Truncate(24 * time.Hour).Add(8 * time.Hour)}
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler), service.Options{Now: clock.now})
	if err != nil {
		return err
	}
	opal, err := svc.Admin.Bootstrap(ctx, "opal", password)
	if err == nil {
		_, err = svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: "survey", Location: "survey"})
	}
	if err == nil {
		err = (&maker{ctx: ctx, svc: svc, as: opal, password: password, source: "survey", clock: clock}).model()
	}
	return errors.Join(err, svc.Close(ctx))
}

// A clock is what time it is while the demo's past is made: each time that somebody looks, it is a
// little later.
type clock struct {
	mu sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at.IsZero() {
		return time.Now()
	}
	c.at = c.at.Add(17 * time.Second)
	return c.at
}

// stop has it be the present again.
func (c *clock) stop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = time.Time{}
}

// a maker makes changes as the administrator, and keeps the first error.
type maker struct {
	ctx      context.Context
	svc      *service.Service
	as       identity.Caller
	password string
	source   string // that holds the survey's tables
	clock    *clock // nil: it is now
	err      error
}

// at is a path of the survey's tables in the maker's source.
func (m *maker) at(path string) string {
	if rest, ok := strings.CutPrefix(path, "survey"); ok && (rest == "" || rest[0] == '.') {
		return m.source + rest
	}
	return path
}

// named is the name of a policy, which no other has.
func (m *maker) named(name string) string { return name + strings.TrimPrefix(m.source, "survey") }

func (m *maker) subject(ref, title string, attributes ...string) {
	if m.err != nil || ref == "user:opal" {
		return
	}
	in := wire.SubjectRequest{Subject: ref, Title: &title}
	if (ref[:4] == "user" || ref[:4] == "serv") && ref != "service:slag" { // whose password was forgotten long ago
		in.Password = m.password
	}
	if len(attributes) > 0 {
		in.Attributes = map[string][]string{attributes[0]: attributes[1:]}
	}
	_, m.err = m.svc.Admin.PutSubject(m.ctx, m.as, in, false)
}

func (m *maker) give(of string, members ...string) {
	for _, member := range members {
		if m.err == nil {
			_, m.err = m.svc.Admin.Join(m.ctx, m.as, wire.Member{Member: member, Of: of}, false)
		}
	}
}

func (m *maker) grant(privilege, object, ticket string, subjects ...string) {
	if m.err == nil {
		_, m.err = m.svc.Admin.Grant(
			m.ctx,
			m.as,
			wire.GrantRequest{Privileges: []string{privilege}, Object: m.at(object), Subjects: subjects, Ticket: ticket},
			false,
		)
	}
}

func (m *maker) lane(name string, limits wire.Limits) {
	if m.err == nil {
		_, m.err = m.svc.Admin.PutLane(m.ctx, m.as, wire.LaneRequest{Name: name, Limits: limits})
	}
}

func (m *maker) bundle(name string, privileges ...string) {
	if m.err == nil {
		_, m.err = m.svc.Admin.PutBundle(m.ctx, m.as, wire.BundleRequest{Name: name, Privileges: privileges})
	}
}

func (m *maker) owner(owner string, objects ...string) {
	for i, o := range objects {
		objects[i] = m.at(o)
	}
	if m.err == nil {
		_, m.err = m.svc.Admin.SetOwner(m.ctx, m.as, wire.OwnerRequest{Owner: owner, Objects: objects})
	}
}

func (m *maker) lead(lead string, users ...string) {
	for _, user := range users {
		if m.err == nil {
			_, m.err = m.svc.Admin.PutSubject(m.ctx, m.as, wire.SubjectRequest{Subject: user, Lead: &lead}, true)
		}
	}
}

// chain has garnet pass on a right that she may, so that there is a chain of
// grants to look at: what tuff has depends on what garnet was given.
func (m *maker) chain() {
	if m.err != nil {
		return
	}
	option := wire.GrantRequest{
		Privileges: []string{"SELECT"},
		Object:     "survey.licensing.licences",
		Subjects:   []string{"role:licensing_officer"},
		Option:     true,
		Ticket:     "GS-23",
	}
	if _, m.err = m.svc.Admin.Grant(m.ctx, m.as, option, false); m.err != nil {
		return
	}
	garnet, err := m.svc.Admin.ActAs("user:garnet")
	if m.err = err; err != nil {
		return
	}
	_, m.err = m.svc.Admin.Grant(
		m.ctx,
		garnet,
		wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "survey.licensing.licences", Columns: []string{"id", "district"},
			Subjects: []string{"user:tuff"}, Ticket: "GS-24", Change: wire.Change{Reason: "to look up own licences"}},
		false,
	)
}

func (m *maker) rows(name, table, rule, comment string, to ...string) {
	if m.err == nil {
		_, m.err = m.svc.Admin.PutPolicy(
			m.ctx,
			m.as,
			wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: m.named(name), Table: m.at(table), Rule: rule, For: to, Comment: comment}},
		)
	}
}

// follow shows the rows whose row in another table is shown.
func (m *maker) follow(name, table, parent string) {
	if m.err == nil {
		_, m.err = m.svc.Admin.PutPolicy(
			m.ctx,
			m.as,
			wire.PolicyRequest{
				Policy: wire.Policy{Kind: "rows", Name: m.named(name), Table: m.at(table), Follow: m.at(parent), Comment: "along a relationship"},
			},
		)
	}
}

func (m *maker) relate(from, to string) {
	if m.err == nil {
		_, m.err = m.svc.Admin.Relate(m.ctx, m.as, wire.RelationshipRequest{From: []string{m.at(from)}, To: []string{m.at(to)}})
	}
}

func (m *maker) label(name, topic, level string, objects ...string) {
	for i, o := range objects {
		objects[i] = m.at(o)
	}
	if m.err == nil && m.source == "survey" {
		_, m.err = m.svc.Admin.PutLabel(m.ctx, m.as, wire.LabelRequest{Name: name, Topic: topic, Level: level})
	}
	if m.err == nil {
		_, m.err = m.svc.Admin.PlaceLabel(m.ctx, m.as, name, wire.LabelPlacement{Do: "put", Objects: objects})
	}
}

// columns treats columns for all but a few.
func (m *maker) columns(name, table string, columns []string, t wire.Treatment, except ...string) {
	m.treat(wire.Policy{Name: name, Table: table, Columns: columns, Treatment: &t, Except: except})
}

func (m *maker) treat(p wire.Policy) {
	if m.err == nil {
		p.Kind, p.Name, p.Table = "columns", m.named(p.Name), m.at(p.Table)
		_, m.err = m.svc.Admin.PutPolicy(m.ctx, m.as, wire.PolicyRequest{Policy: p})
	}
}

func (m *maker) model() error {
	attributes := map[string][]string{"user:flint": {"districts", "north"}, "user:jasper": {"districts", "coast"},
		"user:slate": {"districts", "basin", "highland"}, "user:chert": {"districts", "north", "coast", "basin", "highland"}}
	for _, a := range Accounts {
		m.subject(a.Ref, a.Title, attributes[a.Ref]...)
	}
	for _, d := range Districts {
		m.subject("group:"+d, "the "+d+" district's people")
	}
	m.subject("group:geologists", "all geologists")
	m.give("group:north", "user:flint", "user:chert")
	m.give("group:coast", "user:jasper", "user:chert")
	m.give("group:basin", "user:slate", "user:chert")
	m.give("group:highland", "user:slate", "user:chert")
	m.give("group:geologists", "user:flint", "user:jasper", "user:slate")

	for _, r := range [][2]string{
		{"survey_reader", "reads the survey's shared tables"},
		{"district_geologist", "reads boreholes of the own districts"},
		{"regional_lead", "reads boreholes of the districts covered, with costs"},
		{"lab_analyst", "reads samples and results"},
		{"licensing_officer", "reads licences, holders and payments in clear"},
		{"partner", "reads the boreholes of own licences"},
		{"public_portal", "reads what is released"},
		{"data_curator", "owns the survey's tables, reads all rows"},
		{"lab_keeper", "owns the laboratory's tables and passes rights on"},
		{"field_scribe", "writes down visits"},
	} {
		m.subject("role:"+r[0], r[1])
	}
	m.give("role:survey_reader", "role:district_geologist", "role:data_curator")
	m.give("role:district_geologist", "role:regional_lead", "group:geologists")
	m.give("role:regional_lead", "user:chert")
	m.give("role:lab_analyst", "user:beryl")
	m.give("role:licensing_officer", "user:garnet")
	m.give("role:partner", "user:tuff")
	m.give("role:public_portal", "service:pumice")
	m.give("role:data_curator", "user:opal")
	m.give("role:auditor", "user:agate")
	m.give("role:lab_keeper", "user:beryl")
	m.give("role:field_scribe", "group:geologists")
	m.lead("user:chert", "user:flint", "user:jasper", "user:slate")

	m.lane("batch", wire.Limits{Queries: 2, Seconds: 600, Rows: 1_000_000, Bytes: 1 << 30})
	m.lane("portal", wire.Limits{Queries: 4, Seconds: 5, Rows: 500, Bytes: 4 << 20})
	m.grant("USAGE", "lane:interactive", "GS-10", "role:survey_reader", "role:lab_analyst", "role:licensing_officer", "role:partner")
	m.grant("USAGE", "lane:batch", "GS-10", "role:data_curator")
	m.grant("USAGE", "lane:portal", "GS-10", "role:public_portal")
	m.bundle("sampler", "SELECT", "INSERT")
	m.survey()

	// The trade's usual mistakes, for Gneiss to find.
	m.grant("SELECT", "survey.licensing.payments", "GS-31", "role:lab_analyst")
	m.subject("role:sample_courier", "sees which samples to carry")
	m.grant("SELECT", "survey.assay.samples", "GS-32", "role:sample_courier")
	m.subject("service:slag", "an export that was stopped")
	m.grant("SELECT", "survey", "GS-02", "service:slag")
	m.chain()
	m.subject("group:geologits", "")
	if m.clock != nil {
		m.months(time.Now().UTC())
		m.clock.stop()
	}
	m.checks()
	return m.err
}

// survey gives rights on the survey's tables and writes their policies and labels.
func (m *maker) survey() {
	m.owner("role:data_curator", "survey")
	m.owner("role:lab_keeper", "survey.assay")

	m.grant("USAGE", "survey", "GS-11", "role:survey_reader", "role:lab_analyst", "role:licensing_officer", "role:partner", "role:public_portal")
	for _, schema := range []string{"drilling", "assay", "monitoring", "field"} {
		m.grant("USAGE", "survey."+schema, "GS-14", "role:survey_reader")
		m.grant("SELECT", "survey."+schema, "GS-14", "role:survey_reader")
	}
	m.grant("USAGE", "survey.licensing", "GS-15", "role:survey_reader", "role:licensing_officer")
	m.grant("SELECT", "survey.licensing.holders", "GS-15", "role:survey_reader")
	m.grant("SELECT", "survey.licensing", "GS-16", "role:licensing_officer")
	m.grant("USAGE", "survey.licensing", "GS-23", "role:partner")
	m.grant("USAGE", "survey.drilling", "GS-21", "role:partner", "role:public_portal", "role:licensing_officer")
	m.grant("SELECT", "survey.drilling.boreholes", "GS-21", "role:partner", "role:public_portal", "role:licensing_officer")
	m.grant("USAGE", "survey.assay", "GS-17", "role:lab_analyst")
	m.grant("SELECT", "survey.assay", "GS-17", "role:lab_analyst")
	m.grant("writer", "survey.field.visits", "GS-18", "role:field_scribe")
	m.grant("sampler", "survey.assay.batches", "GS-19", "role:lab_analyst")

	boreholes := "survey.drilling.boreholes"
	m.rows("boreholes-of-districts", boreholes, "district IN (attribute('districts'))", "an attribute of the reader", "role:district_geologist")
	m.rows(
		"boreholes-covered",
		boreholes,
		"district IN (SELECT district FROM field.district_officers WHERE officer = CURRENT_USER)",
		"an entitlement table",
		"role:regional_lead",
	)
	m.rows(
		"boreholes-of-own-licences",
		boreholes,
		"licence_id IN (SELECT id FROM licensing.licences WHERE portal_user = CURRENT_USER)",
		"",
		"role:partner",
	)
	m.rows("boreholes-released", boreholes, "release_on <= CURRENT_DATE", "a date", "role:public_portal", "role:licensing_officer")
	m.rows("boreholes-curated", boreholes, "true", "all rows", "role:data_curator")
	m.relate("survey.assay.samples.borehole_id", boreholes+".id")
	m.relate("survey.field.reports.borehole_id", boreholes+".id")
	m.follow("samples-of-boreholes", "survey.assay.samples", boreholes)
	m.follow("results-of-samples", "survey.assay.results", "survey.assay.samples")
	m.rows("samples-of-laboratory", "survey.assay.samples", "true", "all rows", "role:lab_analyst")
	m.rows("reports-of-team", "survey.field.reports", "author IN (team())", "the reporting line")
	m.rows("reports-curated", "survey.field.reports", "true", "all rows", "role:data_curator")
	m.rows("readings-of-groups", "survey.monitoring.readings", "in_group(district) OR has_role('data_curator')", "a group by column")

	holders := "survey.licensing.holders"
	m.columns("holder-email", holders, []string{"email"}, wire.Treatment{Kind: "mask", KeepFirst: 1, Keep: "@.-"}, "role:licensing_officer")
	m.columns("holder-phone", holders, []string{"phone"}, wire.Treatment{Kind: "mask", KeepLast: 2, Keep: "+ "}, "role:licensing_officer")
	m.columns("holder-contact", holders, []string{"contact_name"}, wire.Treatment{Kind: "pseudonym"}, "role:licensing_officer")
	m.label("finance", "finance", "restricted", holders+".bank_account", holders+".tax_number")
	m.label("contact", "contact", "confidential", holders+".contact_name", holders+".email", holders+".phone")
	m.label("commercial", "commercial", "internal", boreholes+".cost", "survey.field.reports.cost", "survey.licensing.payments.amount")
	if m.source == "survey" { // a label's policy covers what has it in any source
		m.columns("finance-data", "label:finance", nil, wire.Treatment{Kind: "suppress"}, "role:licensing_officer")
	}
	m.columns(
		"report-cost",
		"survey.field.reports",
		[]string{"cost"},
		wire.Treatment{Kind: "withhold blank"},
		"role:regional_lead",
		"role:data_curator",
	)
	m.columns("borehole-cost", boreholes, []string{"cost"}, wire.Treatment{Kind: "withhold blank"}, "role:regional_lead", "role:data_curator")
	m.treat(
		wire.Policy{
			Name:      "borehole-position",
			Table:     boreholes,
			Columns:   []string{"latitude", "longitude"},
			Treatment: &wire.Treatment{Kind: "round", Decimals: 1},
			When:      "release_on > CURRENT_DATE OR release_on IS NULL",
			Except:    []string{"role:district_geologist", "role:data_curator"},
			Comment:   "blurred until the release",
		},
	)
	m.treat(
		wire.Policy{
			Name:      "notes-in-short",
			Table:     "survey.field.visits",
			Columns:   []string{"note"},
			Treatment: &wire.Treatment{Kind: "generalize", Prefix: 6},
			Except:    []string{"role:regional_lead", "role:data_curator"},
			Status:    "draft",
			Comment:   "to be talked about",
		},
	)
}
