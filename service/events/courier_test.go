package events_test

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"gneiss/service/events"
	"gneiss/store"
)

var secret = []byte("a key of the test's own")

// A receiver checks what it is sent as docs/webhooks.md tells receivers to, and keeps it.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	status int // that it answers with
	got    []string
	forged int
}

func newReceiver(t *testing.T) *receiver {
	r := &receiver{status: http.StatusNoContent}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, request *http.Request) {
		body, err := io.ReadAll(request.Body)
		if err != nil {
			t.Error(err)
		}
		var event struct{ ID, Type, Subject, Specversion string }
		if err := json.Unmarshal(body, &event); err != nil || event.Specversion != "1.0" {
			t.Errorf("%s is no CloudEvent: %v", body, err)
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if !signed(request, "http://"+request.Host+request.URL.String(), body) {
			r.forged++
		}
		if r.status < 300 {
			r.got = append(r.got, event.Type+" "+event.Subject)
		}
		w.WriteHeader(r.status)
	}))
	t.Cleanup(r.Close)
	return r
}

// signed checks a signature by RFC 9421, from the request as it came.
func signed(r *http.Request, target string, body []byte) bool {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params, ok := strings.CutPrefix(r.Header.Get("Signature-Input"), "gneiss=")
	base := strings.Join([]string{`"@method": ` + r.Method, `"@target-uri": ` + target, `"content-digest": ` + digest,
		`"content-type": ` + r.Header.Get("Content-Type"), `"@signature-params": ` + params}, "\n")
	mac := hmac.New(sha256.New, secret)
	io.WriteString(mac, base)
	return ok && r.Header.Get("Content-Digest") == digest &&
		r.Header.Get("Signature") == "gneiss=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":"
}

func (r *receiver) answer(status int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.status = status
}

// waits until the receiver has got these, in this order; each can have come more than once.
func (r *receiver) waits(t *testing.T, want ...string) {
	t.Helper()
	var got []string
	for range 200 {
		r.mu.Lock()
		got = slices.Compact(slices.Clone(r.got))
		r.mu.Unlock()
		if slices.Equal(got, want) {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Errorf("the receiver got %q, not %q", got, want)
}

// start runs a feed and a courier on a data folder, until the returned function is called.
func start(t *testing.T, dir string, times events.Times) (*store.Store, *events.Courier, func()) {
	t.Helper()
	st, err := store.Open(dir, false)
	if err != nil {
		t.Fatal(err)
	}
	feed, err := events.NewFeed(t.Context(), st, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	c := events.NewCourier(st, feed, slog.New(slog.DiscardHandler), times)
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	all.Go(func() { feed.Run(ctx) })
	all.Go(func() { c.Run(ctx) })
	return st, c, func() {
		cancel()
		all.Wait()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	}
}

var quick = events.Times{First: 30 * time.Millisecond, Longest: 100 * time.Millisecond, GiveUp: time.Hour, Answer: 5 * time.Second}

func happens(t *testing.T, st *store.Store, kind events.Kind, about string) {
	t.Helper()
	if err := st.Do(t.Context(), events.New(kind, about, 0, events.Told{Text: "it happened"})); err != nil {
		t.Fatal(err)
	}
}

func put(t *testing.T, st *store.Store, name, url, topics string) {
	t.Helper()
	if err := st.AddWebhook(t.Context(), store.Webhook{Name: name, URL: url, Secret: secret, Topics: topics, Status: store.WebhookActive,
		Made: time.Now().UTC().Format(time.RFC3339Nano)}, store.Bound{}); err != nil {
		t.Fatal(err)
	}
}

// TestDeliveries: what happens is delivered in order, by topic, while the receiver takes it and after
// it did not, and across a restart of the service; what was before the webhook is not.
func TestDeliveries(t *testing.T) {
	dir, r, other := t.TempDir(), newReceiver(t), newReceiver(t)
	st, courier, stop := start(t, dir, quick)
	happens(t, st, events.RevisionMade, "before")
	put(t, st, "all", r.URL+"/a?b=c", `["revision","draft","check"]`)
	put(t, st, "checks", other.URL, `["check"]`)
	courier.Wake()
	happens(t, st, events.RevisionMade, "1")
	happens(t, st, events.DraftChanged, "for pages alone")
	happens(t, st, events.CheckFailed, "treated")
	r.waits(t, "gneiss.revision.made 1", "gneiss.check.failed treated")
	other.waits(t, "gneiss.check.failed treated")

	r.answer(http.StatusServiceUnavailable)
	happens(t, st, events.DraftOpened, "spring")
	for range 100 {
		if w, err := st.Webhook(t.Context(), "all"); err != nil {
			t.Fatal(err)
		} else if w.Failures > 2 && w.Trouble == "the receiver answered 503 Service Unavailable" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	happens(t, st, events.CheckHolds, "treated")
	other.waits(t, "gneiss.check.failed treated", "gneiss.check.holds treated") // which waits for no other
	stop()
	st, _, stop = start(t, dir, quick)
	r.answer(http.StatusOK)
	r.waits(t, "gneiss.revision.made 1", "gneiss.check.failed treated", "gneiss.draft.opened spring", "gneiss.check.holds treated")
	var w store.Webhook
	for range 100 { // the receiver knows before it is written down
		var err error
		if w, err = st.Webhook(t.Context(), "all"); err != nil {
			t.Fatal(err)
		}
		if w.Failures == 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if w.Failures != 0 || w.Trouble != "" || w.Delivered == "" {
		t.Errorf("after all was delivered: %+v", w)
	}
	stop()
	if r.forged+other.forged > 0 {
		t.Errorf("%d requests are not signed as they should be", r.forged+other.forged)
	}
}

// TestDeliveriesEnd: a receiver that is gone is told no more, and what is too old is given up for
// what came after it.
func TestDeliveriesEnd(t *testing.T) {
	gone, slow := newReceiver(t), newReceiver(t)
	gone.answer(http.StatusGone)
	slow.answer(http.StatusBadRequest)
	hasty := quick
	hasty.GiveUp = 150 * time.Millisecond
	st, courier, stop := start(t, t.TempDir(), hasty)
	defer stop()
	put(t, st, "gone", gone.URL, `["check"]`)
	put(t, st, "slow", slow.URL, `["check"]`)
	courier.Wake()
	happens(t, st, events.CheckFailed, "old")
	var status, seen string
	for range 200 {
		g, err := st.Webhook(t.Context(), "gone")
		s, err2 := st.Webhook(t.Context(), "slow")
		if err != nil || err2 != nil {
			t.Fatal(err, err2)
		}
		if status, seen = g.Status, fmt.Sprint(s.Seen); status == store.WebhookStopped && seen == "1" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if status != store.WebhookStopped || seen != "1" {
		t.Errorf("who is gone is %s; who cannot take an event has seen %s", status, seen)
	}
	slow.answer(http.StatusOK)
	happens(t, st, events.CheckFailed, "new")
	slow.waits(t, "gneiss.check.failed new")
}

// TestEventsAreForgotten: what is old is taken away once every active webhook has dealt with it.
func TestEventsAreForgotten(t *testing.T) {
	st, _, stop := start(t, t.TempDir(), quick)
	defer stop()
	down := newReceiver(t)
	down.answer(http.StatusServiceUnavailable)
	put(t, st, "down", down.URL, `["check"]`)
	happens(t, st, events.CheckFailed, "waits")
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	for _, kept := range []int{1, 0} {
		if err := st.ForgetEvents(t.Context(), later); err != nil {
			t.Fatal(err)
		}
		if left, err := st.Events(t.Context(), 0, 10); err != nil || len(left) != kept {
			t.Errorf("%d events are left, not %d (%v)", len(left), kept, err)
		}
		if kept == 1 {
			if err := st.DropWebhook(t.Context(), "down"); err != nil {
				t.Fatal(err)
			}
		}
	}
	if last, err := st.LastEvent(t.Context()); err != nil || last != 1 {
		t.Errorf("the last event was %d: %v", last, err)
	}
}

// TestRemovedWebhooksAreToldNoMore: what is removed while one of many deliveries goes on gets none after it.
func TestRemovedWebhooksAreToldNoMore(t *testing.T) {
	st, courier, stop := start(t, t.TempDir(), quick)
	defer stop()
	told, filled, removed := 0, make(chan struct{}), make(chan error, 1)
	r := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		switch told++; told {
		case 1:
			<-filled // so that what is left is read in one go
		case 2:
			removed <- st.DropWebhook(context.Background(), "gone")
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	defer r.Close()
	put(t, st, "gone", r.URL, `["check"]`)
	for i := range 20 {
		happens(t, st, events.CheckFailed, fmt.Sprint(i))
	}
	courier.Wake()
	close(filled)
	if err := <-removed; err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	r.Close() // and waits for what is being answered
	if told != 2 {
		t.Errorf("it was told %d times, %d after it was removed", told, told-2)
	}
}
