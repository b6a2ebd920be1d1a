package admin

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// What bounds webhooks.
const (
	mostWebhooks = 50
	mostURL      = 2_000 // bytes
	secretBytes  = 32
)

// Webhooks lists the webhooks, and how they fare, for who administers the platform.
func (s *Service) Webhooks(ctx context.Context, c identity.Caller) (wire.List[wire.Webhook], error) {
	out := wire.List[wire.Webhook]{Items: []wire.Webhook{}}
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the webhooks"); err != nil {
		return out, err
	}
	all, err := s.store.Webhooks(ctx)
	if err != nil {
		return out, err
	}
	last, err := s.store.LastEvent(ctx)
	if err != nil {
		return out, err
	}
	for _, w := range all {
		out.Items = append(out.Items, wireWebhook(st, w, last))
	}
	return out, nil
}

func wireWebhook(st *platform.State, w store.Webhook, last int64) wire.Webhook {
	out := wire.Webhook{Name: w.Name, URL: shownURL(w.URL), Topics: topicsOf(w), Status: w.Status, By: st.Model.Ref(access.SubjectID(w.Maker)),
		Failures: w.Failures, Trouble: w.Trouble, Waiting: int(last - w.Seen)}
	out.Made, _ = time.Parse(time.RFC3339, w.Made)
	out.Delivered, out.Next = timeOf(w.Delivered), timeOf(w.Next)
	return out
}

// timeOf reads a time that may be empty.
func timeOf(text string) *time.Time {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return nil
	}
	return &at
}

// shownURL hides what a URL may carry as a secret: chat systems put one into the path.
func shownURL(text string) string {
	u, err := url.Parse(text)
	if err != nil || len(u.Path) <= 1 && u.RawQuery == "" {
		return text
	}
	return u.Scheme + "://" + u.Host + "/…"
}

func topicsOf(w store.Webhook) []string {
	var topics []string
	if json.Unmarshal([]byte(w.Topics), &topics) != nil {
		return []string{} // PutWebhook wrote it
	}
	return topics
}

// PutWebhook adds a webhook, or with Replace changes one. Its secret is in the answer where it is new.
func (s *Service) PutWebhook(ctx context.Context, c identity.Caller, in wire.WebhookRequest) (wire.WebhookMade, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the webhook "+audit.Bounded(in.Name, 100)); err != nil {
		return wire.WebhookMade{}, err
	}
	name := strings.ToLower(strings.TrimSpace(in.Name))
	old, err := s.store.Webhook(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNoWebhook) {
		return wire.WebhookMade{}, err
	}
	found := err == nil
	switch {
	case !draftName.MatchString(name):
		return wire.WebhookMade{}, fault.New(fault.Invalid, "bad_name",
			"%.80q cannot name a webhook: use up to 63 of a-z, 0-9 and _ - ., starting with a letter or digit", in.Name)
	case found && !in.Replace:
		return wire.WebhookMade{}, webhookExists(name)
	case !found && in.Replace:
		return wire.WebhookMade{}, s.noWebhook(ctx, name)
	case len(in.Reason) > mostReason:
		return wire.WebhookMade{}, fault.New(fault.Invalid, "oversized", "a reason can have up to %d bytes", mostReason)
	}
	w := store.Webhook{Name: name, URL: in.URL, Status: store.WebhookActive, Maker: uint32(c.User), Made: now(), Topics: old.Topics, Secret: []byte{}}
	if in.URL == "" && found {
		w.URL = old.URL
	}
	if err := checkURL(w.URL); err != nil {
		return wire.WebhookMade{}, err
	}
	if len(in.Topics) > 0 || !found {
		if w.Topics, err = checkTopics(in.Topics); err != nil {
			return wire.WebhookMade{}, err
		}
	}
	if in.Status == store.WebhookStopped {
		w.Status = in.Status
	}
	out := wire.WebhookMade{}
	if !found || in.Renew {
		w.Secret = make([]byte, secretBytes)
		rand.Read(w.Secret) // which never fails
		out.Secret = base64.StdEncoding.EncodeToString(w.Secret)
	}
	verb := map[bool]say.Sentence{true: say.ChangedWebhook, false: say.AddedWebhook}[found]
	out.Says = verb.With(name, shownURL(w.URL), strings.Join(topicsOf(w), ", "), w.Status)
	record := c.Record(st.Model.Ref(c.User), audit.Webhook, out.Says)
	record.Reason = in.Reason
	err = s.onRecord(record, func() error {
		if found {
			return s.store.ChangeWebhook(ctx, w)
		}
		return s.store.AddWebhook(ctx, w, store.Bound{All: mostWebhooks})
	})
	var full *store.Full
	switch {
	case errors.As(err, &full):
		return wire.WebhookMade{}, fault.New(fault.Conflict, "too_many", "there are %s already; remove one first", say.Count(full.All, "webhook"))
	case errors.Is(err, store.ErrWebhookExists):
		return wire.WebhookMade{}, webhookExists(name)
	case errors.Is(err, store.ErrNoWebhook):
		return wire.WebhookMade{}, s.noWebhook(ctx, name)
	case err != nil:
		return wire.WebhookMade{}, err
	}
	s.courier.Wake()
	kept, err := s.store.Webhook(ctx, name)
	if err != nil {
		return wire.WebhookMade{}, err
	}
	last, err := s.store.LastEvent(ctx)
	out.Webhook = wireWebhook(st, kept, last)
	return out, err
}

func webhookExists(name string) error {
	return fault.New(fault.Conflict, "exists", "there is a webhook %s already; to change it: gneiss webhook set %s", name, name)
}

func (s *Service) noWebhook(ctx context.Context, name string) error {
	all, err := s.store.Webhooks(ctx)
	if err != nil {
		return err
	}
	var known []string
	for _, w := range all {
		known = append(known, w.Name)
	}
	return &access.NotFound{Kind: "webhook", Name: name, Known: known}
}

// checkURL refuses an address over which what is sent could be read on its way.
func checkURL(text string) error {
	bad := func(why string) error {
		return fault.New(fault.Invalid, "bad_url", "the URL of a webhook is https://HOST/PATH, or http to this machine: %s", why)
	}
	u, err := url.Parse(text)
	switch {
	case text == "":
		return bad("it is missing")
	case len(text) > mostURL:
		return bad("it is too long")
	case err != nil:
		return bad("it cannot be read")
	case u.Host == "":
		return bad("it has no host")
	case u.User != nil:
		return bad("it has a name or password in it; requests are signed instead")
	case u.Scheme == "https":
		return nil
	case u.Scheme != "http":
		return bad("it begins with " + u.Scheme)
	}
	if ip := net.ParseIP(u.Hostname()); u.Hostname() == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return bad("others could read it on its way to " + u.Host)
}

func checkTopics(asked []string) (string, error) {
	if len(asked) == 0 {
		asked = events.Topics()
	}
	var topics []string
	for _, t := range asked {
		if t = strings.ToLower(strings.TrimSpace(t)); !slices.Contains(events.Topics(), t) {
			return "", fault.New(fault.Invalid, "bad_topic", "%.80q is no topic; there are %s", t, strings.Join(events.Topics(), ", "))
		}
		topics = append(topics, t)
	}
	slices.Sort(topics)
	return audit.List(slices.Compact(topics)), nil
}

// RemoveWebhook removes a webhook.
func (s *Service) RemoveWebhook(ctx context.Context, c identity.Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the webhook "+name); err != nil {
		return wire.Changed{}, err
	}
	w, err := s.store.Webhook(ctx, name)
	if errors.Is(err, store.ErrNoWebhook) {
		return wire.Changed{}, s.noWebhook(ctx, name)
	}
	if err != nil {
		return wire.Changed{}, err
	}
	out := s.saidOnly(st, say.RemovedWebhook.With(w.Name, shownURL(w.URL)))
	if out.DryRun, out.Done = in.DryRun, !in.DryRun; in.DryRun {
		return out, nil
	}
	record := c.Record(st.Model.Ref(c.User), audit.Webhook, out.Says[0])
	record.Reason = in.Reason
	return out, s.onRecord(record, func() error { return s.store.DropWebhook(ctx, w.Name) })
}

// TryWebhook sends a webhook an event of its own, and says what came of it.
func (s *Service) TryWebhook(ctx context.Context, c identity.Caller, name string) (wire.WebhookTried, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the webhook "+name); err != nil {
		return wire.WebhookTried{}, err
	}
	w, err := s.store.Webhook(ctx, name)
	if errors.Is(err, store.ErrNoWebhook) {
		return wire.WebhookTried{}, s.noWebhook(ctx, name)
	}
	if err != nil {
		return wire.WebhookTried{}, err
	}
	text := say.TriedWebhook.With(w.Name)
	if err := s.audit.Write(c.Record(st.Model.Ref(c.User), audit.Webhook, text)); err != nil {
		return wire.WebhookTried{}, err
	}
	data, err := json.Marshal(events.Told{Text: st.Model.Ref(c.User) + " " + text, Actor: st.Model.Ref(c.User)})
	if err != nil {
		return wire.WebhookTried{}, err
	}
	started := time.Now()
	status, err := s.courier.Deliver(ctx, w, store.Event{At: now(), Kind: string(events.Tried), About: w.Name, Data: string(data)})
	out := wire.WebhookTried{Delivered: err == nil, Status: status, TookMS: float64(time.Since(started).Microseconds()) / 1000}
	if err != nil {
		out.Trouble = err.Error()
	}
	return out, nil
}
