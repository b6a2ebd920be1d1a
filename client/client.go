// Package client is the Go client of the API.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"gneiss/wire"
)

// Unreachable says that no service answered.
type Unreachable struct {
	Server string
	Err    error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s: %v", e.Server, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// Client talks to one service as one account. It may be used concurrently.
type Client struct {
	Server string // http://127.0.0.1:7464
	Token  string
	HTTP   *http.Client
	// IfMatch is the revision that changes are made on; the service refuses them
	// when the model has changed since. Zero: on any.
	IfMatch int64
	// DryRun has changes shown, with what they would do to whom, and not made.
	DryRun bool
	// Moment is which state requests are about: they are answered through a draft or as of a
	// moment, and changes go into the draft.
	Moment wire.Moment
	// SetAside are guardrails that changes may break, with commas between them.
	SetAside string
}

// New returns a client of the service at an address.
func New(server, token string) *Client {
	return &Client{Server: strings.TrimRight(server, "/"), Token: token, HTTP: &http.Client{Timeout: 2 * time.Minute}}
}

// Do makes one request below /api/v1 and decodes the answer into out. A refusal
// by the service is a [*wire.Problem]; a service that does not answer an
// [*Unreachable].
func (c *Client) Do(ctx context.Context, method, path string, query url.Values, in, out any) error {
	body, err := c.Raw(ctx, method, path, query, in, "application/json")
	if err != nil {
		return err
	}
	defer body.Close()
	d := json.NewDecoder(body)
	d.UseNumber()
	if err := d.Decode(out); err != nil {
		return fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	if r, ok := out.(*wire.Result); ok && r.Problem != nil {
		return r.Problem
	}
	return nil
}

// Raw is Do for an answer in another form, which the caller reads and closes.
func (c *Client) Raw(ctx context.Context, method, path string, query url.Values, in any, accept string) (io.ReadCloser, error) {
	if c.DryRun && method != http.MethodGet {
		var err error
		if query, in, err = dry(query, in); err != nil {
			return nil, err
		}
	}
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	setAside := c.SetAside
	if method == http.MethodGet {
		setAside = ""
	}
	if c.Moment != (wire.Moment{}) || setAside != "" {
		query = maps.Clone(query)
		if query == nil {
			query = url.Values{}
		}
		for name, value := range map[string]string{"draft": c.Moment.Draft, "at": c.Moment.At, "set_aside": setAside} {
			if value != "" {
				query.Set(name, value)
			}
		}
	}
	target := c.Server + "/api/v1" + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", accept)
	r.Header.Set("User-Agent", "gneiss")
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if c.IfMatch != 0 {
		r.Header.Set("If-Match", fmt.Sprintf("%q", strconv.FormatInt(c.IfMatch, 10)))
	}
	if c.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
	with := *c.HTTP
	if accept != "application/json" {
		with.Timeout = 0 // what comes as it is made may take its time
	}
	answer, err := with.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &Unreachable{c.Server, errors.Unwrap(err)}
	}
	if answer.StatusCode < 400 {
		return answer.Body, nil
	}
	defer answer.Body.Close()
	p := &wire.Problem{}
	if err := json.NewDecoder(answer.Body).Decode(p); err != nil || p.Code == "" {
		return nil, fmt.Errorf("%s answered %s; is it a Gneiss service?", c.Server, answer.Status)
	}
	return nil, p
}

// dry asks in a request's body, or where it has none in its query, that nothing be done.
func dry(query url.Values, in any) (url.Values, any, error) {
	if in == nil {
		next := url.Values{"dry_run": {"true"}}
		for name, values := range query {
			if name != "dry_run" {
				next[name] = values
			}
		}
		return next, nil, nil
	}
	text, err := json.Marshal(in)
	if err != nil {
		return nil, nil, err
	}
	fields := map[string]json.RawMessage{}
	if err := json.Unmarshal(text, &fields); err != nil {
		return nil, nil, err
	}
	fields["dry_run"] = json.RawMessage("true")
	return query, fields, nil
}

// Get reads from the API.
func Get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	err := c.Do(ctx, http.MethodGet, path, query, nil, &out)
	return out, err
}

// All reads every page of a list.
func All[T any](ctx context.Context, c *Client, path string, query url.Values) ([]T, error) {
	all := []T{}
	page := url.Values{}
	for k, v := range query {
		page[k] = v
	}
	for {
		list, err := Get[wire.List[T]](ctx, c, path, page)
		if err != nil {
			return nil, err
		}
		all = append(all, list.Items...)
		if list.Next == "" {
			return all, nil
		}
		page.Set("after", list.Next)
	}
}

// Send makes a change through the API.
func Send[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	err := c.Do(ctx, method, path, nil, in, &out)
	return out, err
}
