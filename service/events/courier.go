package events

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"gneiss/store"
)

// A Courier delivers events to webhooks: each in order, and each event until it is taken, by POST
// requests whose body is a CloudEvent (CloudEvents 1.0, JSON format) and which are signed (RFC 9421).
// How far each is stands in the store, so that a kill loses nothing; it can have an event come twice.
type Courier struct {
	store  *store.Store
	feed   *Feed
	log    *slog.Logger
	client *http.Client
	times  Times

	mu   sync.Mutex
	busy map[string]bool // webhooks that something is delivered to now
	all  sync.WaitGroup
	wake chan struct{}
}

// Times are how patient deliveries are.
type Times struct {
	First   time.Duration // until a delivery that failed is tried again; twice as long each time
	Longest time.Duration // that it comes to
	GiveUp  time.Duration // age of an event that is not tried again
	Answer  time.Duration // until a receiver has answered
}

// Patience is how patient deliveries are on a platform.
var Patience = Times{First: 5 * time.Second, Longest: time.Hour, GiveUp: 3 * 24 * time.Hour, Answer: 10 * time.Second}

// NewCourier returns a courier that delivers what a feed hears of.
func NewCourier(st *store.Store, feed *Feed, log *slog.Logger, times Times) *Courier {
	return &Courier{store: st, feed: feed, log: log, times: times, busy: map[string]bool{}, wake: make(chan struct{}, 1),
		client: &http.Client{Timeout: times.Answer, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// Wake has the courier look at the webhooks, after one was changed.
func (c *Courier) Wake() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// Run delivers until the context ends, and what is under way then.
func (c *Courier) Run(ctx context.Context) {
	defer c.all.Wait()
	for {
		_, changed := c.feed.After(c.feed.Last())
		wait := c.round(ctx)
		select {
		case <-changed:
		case <-c.wake:
		case <-time.After(wait):
		case <-ctx.Done():
			return
		}
	}
}

// lookAgain is how long a courier waits at the most.
const lookAgain = time.Minute

// round begins what can be delivered now, and returns how long to wait for what is due next.
func (c *Courier) round(ctx context.Context) time.Duration {
	wait, last := lookAgain, c.feed.Last()
	all, err := c.store.Webhooks(ctx)
	if err != nil {
		if ctx.Err() == nil {
			c.log.Warn("webhooks cannot be read", "error", err)
		}
		return wait
	}
	for _, w := range all {
		if w.Status != store.WebhookActive || w.Seen >= last {
			continue
		}
		if next, err := time.Parse(time.RFC3339, w.Next); err == nil && time.Until(next) > 0 {
			wait = min(wait, time.Until(next))
			continue
		}
		c.mu.Lock()
		if !c.busy[w.Name] {
			c.busy[w.Name] = true
			c.all.Go(func() {
				err := c.serve(ctx, w)
				c.mu.Lock()
				delete(c.busy, w.Name)
				c.mu.Unlock()
				if err != nil {
					c.log.Warn("a webhook waits for the records", "webhook", w.Name, "error", err)
					return // until it is looked at again
				}
				c.Wake() // for what happened since it last looked, or when it is to be tried again
			})
		}
		c.mu.Unlock()
	}
	return wait
}

// mostAtOnce is how many events a webhook reads at a time.
const mostAtOnce = 100

// serve delivers to one webhook what there is for it, until something fails, and notes how far it is.
func (c *Courier) serve(ctx context.Context, w store.Webhook) error {
	var topics []string
	if err := json.Unmarshal([]byte(w.Topics), &topics); err != nil {
		return err
	}
	found, err := c.store.Events(ctx, w.Seen, mostAtOnce)
	if err != nil {
		return err
	}
	for _, e := range found {
		// What was changed meanwhile holds from the next event on: a delivery can take long.
		now, err := c.store.Webhook(ctx, w.Name)
		if errors.Is(err, store.ErrNoWebhook) {
			return nil
		}
		if err != nil {
			return err
		}
		if now.Status != w.Status || now.URL != w.URL || !bytes.Equal(now.Secret, w.Secret) || now.Topics != w.Topics {
			break // it is begun with again as it is now
		}
		wanted := slices.Contains(topics, Kind(e.Kind).Topic()) && Kind(e.Kind) != DraftChanged
		if wanted && !c.try(ctx, &w, e) {
			break
		}
		w.Seen = e.ID
	}
	return c.store.NoteDelivery(context.WithoutCancel(ctx), w)
}

// try delivers one event, and reports whether it is dealt with.
func (c *Courier) try(ctx context.Context, w *store.Webhook, e store.Event) bool {
	status, err := c.Deliver(ctx, *w, e)
	if err == nil {
		w.Failures, w.Next, w.Trouble, w.Delivered = 0, "", "", stamp(time.Now())
		return true
	}
	if ctx.Err() != nil {
		return false // the service stops: that is not the receiver's fault
	}
	w.Trouble = err.Error()
	if status == http.StatusGone { // RFC 9110, 15.5.11: it will not come back
		w.Status = store.WebhookStopped
		c.log.Warn("a webhook is gone, and was stopped", "webhook", w.Name)
		return false
	}
	if at, err := time.Parse(time.RFC3339, e.At); err == nil && time.Since(at) > c.times.GiveUp {
		c.log.Warn("an event was given up", "webhook", w.Name, "event", e.ID, "kind", e.Kind, "error", w.Trouble)
		w.Failures, w.Next = 0, ""
		return true
	}
	pause := c.times.First << min(w.Failures, 20)
	w.Failures++
	w.Next = stamp(time.Now().Add(min(pause, c.times.Longest)))
	return false
}

// mostAnswer bounds what is read of an answer, in bytes.
const mostAnswer = 4 << 10

// Deliver sends one event to a webhook. A status is returned where there was an answer; an error says
// why the event is not delivered.
func (c *Courier) Deliver(ctx context.Context, w store.Webhook, e store.Event) (status int, err error) {
	body, err := Envelope(e)
	if err != nil {
		return 0, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return 0, err
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("User-Agent", "gneiss")
	Sign(request, body, w.Name, w.Secret, time.Now())
	answer, err := c.client.Do(request)
	if err != nil {
		var told *url.Error
		if errors.As(err, &told) {
			err = told.Err // without the address, which may carry a secret
		}
		return 0, err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, mostAnswer)) // so that the connection serves again
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return answer.StatusCode, fmt.Errorf("the receiver answered %s", answer.Status)
	}
	return answer.StatusCode, nil
}
