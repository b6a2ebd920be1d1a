package sqlport

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/source"
)

// Version is the version of PostgreSQL whose language and catalog this is.
const Version = "15.0"

// A setting is a parameter of a session, as SHOW and SET have it.
type setting struct {
	name, value string
	fixed       bool   // it cannot be set to another value
	told        bool   // the client is told of each change
	last        string // as it was told last
	about       string // for SHOW ALL
	// check brings a value to the form that is kept.
	check func(string) (string, error)
}

// settings are those of a session.
type settings struct {
	all     map[string]*setting // by the name in small letters
	start   map[string]string   // what they are set back to
	changed []string            // that the client has to be told of
	undone  []undo              // what the transaction has set, to be set back as it ends
	zone    *time.Location
	expires time.Duration    // statement_timeout; zero: the lane's alone
	lasts   time.Duration    // transaction_timeout; zero: the lane's alone
	idle    time.Duration    // idle_in_transaction_session_timeout; zero: the lane's alone
	away    time.Duration    // idle_session_timeout; zero: the service's alone
	path    []string         // search_path
	source  *source.Settings // the result of forSource; nil: not computed

	lane, purpose *setting // gneiss.lane and gneiss.purpose
}

// An undo sets one thing back to what it was.
type undo struct {
	of    string // what was set
	back  func()
	local bool // it was set for the transaction alone
}

func newSettings() *settings {
	s := &settings{all: map[string]*setting{}, start: map[string]string{}, zone: time.UTC}
	for _, one := range []setting{
		{name: "application_name", told: true, about: "the program's own name", check: anything(63)},
		{name: "bytea_output", value: "hex", about: "the form of bytes", check: known("hex", "escape")},
		{name: "client_encoding", value: "UTF8", told: true, about: "the encoding of texts", check: encoding},
		{name: "client_min_messages", value: "notice", about: "which notices are sent", check: known("debug5", "debug4", "debug3", "debug2", "debug1", "debug",
			"log", "notice", "warning", "error")},
		{name: "DateStyle", value: "ISO, MDY", told: true, about: "the form of dates", check: dateStyle},
		{name: "default_transaction_isolation", value: "read committed", about: "of transactions that do not say", check: known("read committed",
			"repeatable read", "serializable", "read uncommitted")},
		{name: "default_transaction_read_only", value: "off", told: true, about: "of transactions that do not say", check: truth},
		{name: "extra_float_digits", value: "1", about: "digits of floating-point numbers", check: whole(-15, 3)},
		{name: "gneiss.draft", about: "the draft into which statements about access go; empty: they take effect at once", check: anything(64)},
		{name: "gneiss.lane", about: "the lane on which statements run; empty: the first that is open", check: anything(200)},
		{name: "gneiss.purpose", about: "what for rows are read, as policies ask it", check: anything(200)},
		{name: "idle_in_transaction_session_timeout", value: "0", about: "how long a transaction may wait for its program", check: span},
		{name: "idle_session_timeout", value: "0", about: "how long a connection may wait for its program", check: span},
		{name: "in_hot_standby", value: "off", told: true, fixed: true, about: "that this is a copy"},
		{name: "integer_datetimes", value: "on", told: true, fixed: true, about: "the binary form of times"},
		{name: "IntervalStyle", value: "postgres", told: true, about: "the form of intervals", check: known(
			"postgres", "postgres_verbose", "sql_standard", "iso_8601")},
		{name: "is_superuser", value: "off", told: true, fixed: true, about: "that all is allowed: nobody here is one"},
		{name: "lc_collate", value: "C", fixed: true, about: "the order of texts"},
		{name: "lc_ctype", value: "C.UTF-8", fixed: true, about: "the classes of characters"},
		{name: "lc_messages", value: "C", fixed: true, about: "the language of messages"},
		{name: "lc_monetary", value: "C", fixed: true, about: "the form of money"},
		{name: "lc_numeric", value: "C", fixed: true, about: "the form of numbers"},
		{name: "lock_timeout", value: "0", about: "accepted; a lane's seconds hold", check: span},
		{name: "max_identifier_length", value: "63", fixed: true, about: "the bytes of a name"},
		{name: "max_index_keys", value: "32", fixed: true, about: "the columns of a key"},
		{name: "password_encryption", value: "scram-sha-256", fixed: true, about: "how passwords are kept"},
		{name: "row_security", value: "on", fixed: true, about: "that row policies hold: always"},
		{name: "search_path", value: `"$user", public`, about: "schemas in which names without one are looked up", check: anything(2000)},
		{name: "server_encoding", value: "UTF8", told: true, fixed: true, about: "the encoding of the service"},
		{name: "server_version", value: Version, told: true, fixed: true, about: "the version of PostgreSQL whose language this is"},
		{name: "server_version_num", value: "150000", fixed: true, about: "the same as a number"},
		{name: "session_authorization", told: true, fixed: true, about: "as whom the session looks"},
		{name: "standard_conforming_strings", value: "on", told: true, about: "that backslashes are themselves", check: known("on")},
		{name: "statement_timeout", value: "0", about: "how long a statement may take; a lane's seconds hold as well", check: span},
		{name: "synchronous_commit", value: "on", about: "accepted; the sources have their own", check: known("on", "off", "local", "remote_write", "remote_apply")},
		{name: "TimeZone", value: "UTC", told: true, about: "the time zone of values that have one", check: zone},
		{name: "transaction_isolation", value: "read committed", about: "of this transaction", check: known("read committed", "repeatable read",
			"serializable", "read uncommitted")},
		{name: "transaction_read_only", value: "off", about: "of this transaction", check: truth},
		{name: "transaction_timeout", value: "0", about: "how long a transaction may last; a lane's bound holds as well", check: span},
		{name: "xmloption", value: "content", about: "accepted", check: known("content", "document")},
	} {
		s.all[strings.ToLower(one.name)] = &one
	}
	for name, one := range s.all {
		s.start[name] = one.value
	}
	s.lane, s.purpose = s.all["gneiss.lane"], s.all["gneiss.purpose"]
	return s
}

func (s *settings) get(name string) string { return s.all[strings.ToLower(name)].value }

func (s *settings) getOr(name string) string {
	if one, err := s.find(name); err == nil {
		return one.value
	}
	return ""
}

// alias are other names that statements have for settings.
var alias = map[string]string{"time zone": "timezone", "timezone": "timezone", "names": "client_encoding"}

func (s *settings) find(name string) (*setting, error) {
	lower := strings.ToLower(name)
	if to, ok := alias[lower]; ok {
		lower = to
	}
	if one, ok := s.all[lower]; ok {
		return one, nil
	}
	return nil, statef("42704", "unrecognized configuration parameter %q", printable(name, 80))
}

// set changes a setting. Its error is one that does not exist, or cannot have the value.
func (s *settings) set(name, value string, local bool) error {
	one, err := s.find(name)
	if err != nil {
		return err
	}
	if one.check == nil {
		if strings.EqualFold(one.value, value) {
			return nil
		}
		return statef("55P02", "parameter %q cannot be changed", one.name)
	}
	kept, err := one.check(value)
	if err != nil {
		e, _ := err.(*stated)
		return statef(e.state, "the parameter %q %s", one.name, e.text)
	}
	if err := s.remember(one, local); err != nil {
		return err
	}
	return s.put(one, kept)
}

// remember keeps what a setting is, for the end of the transaction.
func (s *settings) remember(one *setting, local bool) error {
	was := one.value
	return s.undoes(undo{one.name, func() { s.put(one, was) }, local})
}

// undoes keeps how to set one thing back, up to a bound: outside a transaction nothing is kept behind a statement.
func (s *settings) undoes(u undo) error {
	if len(s.undone) >= mostUndone {
		return statef("54000", "a transaction has up to %d changes of settings", mostUndone)
	}
	s.undone = append(s.undone, u)
	return nil
}

// put keeps a value, and what is worked out from it.
func (s *settings) put(one *setting, value string) (err error) {
	switch one.name {
	case "TimeZone":
		if s.zone, _, err = location(value); err != nil {
			return err
		}
	case "statement_timeout":
		s.expires, err = duration(value)
	case "idle_in_transaction_session_timeout":
		s.idle, err = duration(value)
	case "transaction_timeout":
		s.lasts, err = duration(value)
	case "idle_session_timeout":
		s.away, err = duration(value)
	case "search_path":
		s.path = pathOf(value)
	}
	if one.told && one.value != value {
		s.changed = append(s.changed, one.name)
	}
	one.value, s.source = value, nil
	return err
}

// pathOf parts a search path into the names of schemas.
func pathOf(value string) []string {
	var out []string
	for _, part := range strings.Split(value, ",") {
		part = strings.TrimSpace(part)
		if inner, ok := strings.CutPrefix(part, `"`); ok {
			part = strings.ReplaceAll(strings.TrimSuffix(inner, `"`), `""`, `"`)
		} else {
			part = strings.ToLower(part)
		}
		if part != "" && part != "$user" {
			out = append(out, part)
		}
	}
	return out
}

func (s *settings) reset(name string) error {
	one, err := s.find(name)
	if err != nil || one.check == nil {
		return err
	}
	if err := s.remember(one, false); err != nil {
		return err
	}
	return s.put(one, s.start[strings.ToLower(one.name)])
}

func (s *settings) resetAll() error {
	for _, name := range slices.Sorted(maps.Keys(s.all)) {
		if transactional[name] {
			continue
		}
		if err := s.reset(name); err != nil {
			return err
		}
	}
	return nil
}

// ended sets back what was set for a transaction alone, but for what was set to last after that; where it was rolled
// back, all that was set in it.
func (s *settings) ended(rolledBack bool) {
	lasts := map[string]bool{}
	for _, u := range slices.Backward(s.undone) {
		if rolledBack || u.local && !lasts[u.of] {
			u.back()
		}
		lasts[u.of] = lasts[u.of] || !u.local
	}
	s.undone = nil
}

// backTo sets back what was set since there were n things to undo.
func (s *settings) backTo(n int) {
	for _, u := range slices.Backward(s.undone[n:]) {
		u.back()
	}
	s.undone = s.undone[:n]
}

// begin takes the parameters of a connection's first message. Those that are not known are let be,
// as the protocol wants it; a known one must have a value that it can have.
func (s *settings) begin(parameters map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(parameters)) {
		value := parameters[name]
		switch name {
		case "user", "database", "replication":
			if name == "replication" && !slices.Contains([]string{"false", "off", "no", "0"}, value) {
				return statef("0A000", "replication is not there")
			}
			continue
		case "options":
			if err := s.options(value); err != nil {
				return err
			}
			continue
		}
		if _, err := s.find(name); err != nil {
			continue
		}
		if err := s.set(name, value, false); err != nil {
			return err
		}
	}
	s.inherit()
	for name, one := range s.all {
		s.start[name] = one.value
	}
	s.undone, s.changed = nil, nil
	return nil
}

// inherit makes the mode of transactions that of those which do not say.
func (s *settings) inherit() {
	s.put(s.all["transaction_isolation"], s.get("default_transaction_isolation"))
	s.put(s.all["transaction_read_only"], s.get("default_transaction_read_only"))
}

// options reads settings as a server's command line has them: -c name=value.
func (s *settings) options(text string) error {
	fields := strings.Fields(strings.ReplaceAll(text, `\ `, "\x00"))
	for i := 0; i < len(fields); i++ {
		field := fields[i]
		switch {
		case field == "-c" && i+1 < len(fields):
			i++
			field = fields[i]
		case strings.HasPrefix(field, "-c"):
			field = field[2:]
		case strings.HasPrefix(field, "--"):
			field = field[2:]
		default:
			return statef("22023", "the option %q is not understood; settings are given as -c name=value", printable(field, 40))
		}
		name, value, ok := strings.Cut(field, "=")
		if !ok {
			return statef("22023", "the option %q is not understood; settings are given as -c name=value", printable(field, 40))
		}
		if err := s.set(strings.ReplaceAll(name, "-", "_"), strings.ReplaceAll(value, "\x00", " "), false); err != nil {
			return err
		}
	}
	return nil
}

// forSource are the settings that a database has to know.
func (s *settings) forSource() *source.Settings {
	if s.source == nil {
		out := s.readForSource()
		s.source = &out
	}
	return s.source
}

func (s *settings) readForSource() source.Settings {
	_, order, _ := strings.Cut(s.get("DateStyle"), ", ")
	out := source.Settings{TimeZone: s.get("TimeZone"), DateOrder: order, IntervalStyle: s.get("IntervalStyle"),
		FloatDigits: s.get("extra_float_digits"), ByteaOutput: s.get("bytea_output")}
	for field, usual := range map[*string]string{&out.TimeZone: "UTC", &out.DateOrder: "MDY", &out.IntervalStyle: "postgres", &out.FloatDigits: "1",
		&out.ByteaOutput: "hex"} {
		if *field == usual {
			*field = ""
		}
	}
	if n, err := strconv.Atoi(out.FloatDigits); err == nil && n > 0 {
		out.FloatDigits = "" // all above zero mean the same
	}
	return out
}

// names is what the shorter names of the session's statements mean.
func (c *session) path() string {
	return access.JoinPath(c.settings.path...)
}

// valueOf reads the value that SET has, of one part or of several.
func valueOf(args []*pg.Node) (string, error) {
	var parts []string
	for _, n := range args {
		if cast := n.GetTypeCast(); cast != nil { // SET TIME ZONE INTERVAL '+01:00' HOUR TO MINUTE
			n = cast.Arg
		}
		constant := n.GetAConst()
		switch v := constant.GetVal().(type) {
		case *pg.A_Const_Sval:
			text := v.Sval.Sval
			if len(args) > 1 && text != strings.ToLower(text) {
				text = quoted(text)
			}
			parts = append(parts, text)
		case *pg.A_Const_Ival:
			parts = append(parts, strconv.Itoa(int(v.Ival.Ival)))
		case *pg.A_Const_Fval:
			parts = append(parts, v.Fval.Fval)
		case *pg.A_Const_Boolval:
			parts = append(parts, strconv.FormatBool(v.Boolval.Boolval))
		default:
			if constant == nil || !constant.Isnull {
				return "", statef("0A000", "SET takes constants")
			}
			parts = append(parts, "0")
		}
	}
	return cmp.Or(strings.Join(parts, ", "), ""), nil
}
