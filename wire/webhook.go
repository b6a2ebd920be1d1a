package wire

import "time"

// A Webhook is where another system is told of what happens here.
type Webhook struct {
	Name      string     `json:"name"`
	URL       string     `json:"url"`
	Topics    []string   `json:"topics"`
	Status    string     `json:"status" enum:"active,stopped"`
	By        string     `json:"by" description:"who made it"`
	Made      time.Time  `json:"made"`
	Delivered *time.Time `json:"delivered,omitempty" description:"when it last took something"`
	Waiting   int        `json:"waiting" description:"events that it has not been told yet"`
	Failures  int        `json:"failures" description:"how often the next event could not be delivered"`
	Next      *time.Time `json:"next,omitempty" description:"when that is tried again"`
	Trouble   string     `json:"trouble,omitempty" description:"why the last try failed"`
}

// A WebhookRequest adds a webhook, or changes one.
type WebhookRequest struct {
	Name    string   `json:"name" required:"true"`
	URL     string   `json:"url,omitempty" description:"https, or http to this machine; with replace the present one when empty"`
	Topics  []string `json:"topics,omitempty" description:"revision, draft, check, request, review; all when empty"`
	Status  string   `json:"status,omitempty" enum:"active,stopped" description:"active when empty"`
	Renew   bool     `json:"renew,omitempty" description:"with replace: give it a new secret"`
	Replace bool     `json:"replace,omitempty" description:"change the webhook of that name"`
	Reason  string   `json:"reason,omitempty" description:"kept on record"`
}

// A WebhookMade is a webhook with its secret, where it is new.
type WebhookMade struct {
	Webhook
	Secret string `json:"secret,omitempty" description:"the key of its signatures, shown this once; base64"`
	Says   string `json:"says"`
}

// A WebhookTried is what came of a try.
type WebhookTried struct {
	Delivered bool    `json:"delivered"`
	Status    int     `json:"status,omitempty" description:"the receiver's answer"`
	Trouble   string  `json:"trouble,omitempty"`
	TookMS    float64 `json:"took_ms"`
}
