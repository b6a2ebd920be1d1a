package events

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"gneiss/store"
)

// Envelope writes an event as a CloudEvent (CloudEvents 1.0, JSON format). Its id and source name it
// for good: a receiver knows by them what came twice. The attribute text says it in a sentence.
func Envelope(e store.Event) ([]byte, error) {
	var told struct {
		Text string `json:"text"`
	}
	if err := json.Unmarshal([]byte(e.Data), &told); err != nil {
		return nil, err
	}
	return json.Marshal(struct {
		Version string          `json:"specversion"`
		ID      string          `json:"id"`
		Source  string          `json:"source"`
		Type    string          `json:"type"`
		Subject string          `json:"subject,omitempty"`
		Time    string          `json:"time"`
		Text    string          `json:"text"`
		Data    json.RawMessage `json:"data"`
	}{"1.0", strconv.FormatInt(e.ID, 10), "/gneiss", "gneiss." + e.Kind, e.About, e.At, told.Text, json.RawMessage(e.Data)})
}

// Sign signs a request as RFC 9421 has it, with HMAC-SHA256 over its method, its target, the digest
// of its body (RFC 9530) and its type. The key is named after the webhook.
func Sign(r *http.Request, body []byte, name string, secret []byte, at time.Time) {
	if r.URL.Path == "" {
		r.URL.Path = "/" // as it is sent, and normalized (RFC 9110, 4.2.3)
	}
	sum := sha256.Sum256(body)
	r.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest" "content-type");created=%d;keyid=%q;alg="hmac-sha256"`, at.Unix(), name)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"content-type\": %s\n\"@signature-params\": %s",
		r.Method, r.URL, r.Header.Get("Content-Digest"), r.Header.Get("Content-Type"), params)
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", "gneiss="+params)
	r.Header.Set("Signature", "gneiss=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
