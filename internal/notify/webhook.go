package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"
)

// Event is an event in the CloudEvents 1.0 format (structured mode, JSON).
type Event struct {
	SpecVersion     string    `json:"specversion"`
	ID              string    `json:"id"`
	Source          string    `json:"source"`
	Type            string    `json:"type"`
	Subject         string    `json:"subject,omitempty"`
	Time            time.Time `json:"time"`
	DataContentType string    `json:"datacontenttype"`
	Data            any       `json:"data"`
}

// NewEvent fills in what all events have in common.
func NewEvent(id, source, kind, subject string, at time.Time, data any) Event {
	return Event{"1.0", id, source, kind, subject, at.UTC(), "application/json", data}
}

// answerTime is how long a webhook may take to answer.
const answerTime = 20 * time.Second

// ErrRejected marks a webhook that answered that it will not take the event: trying again is of no use.
var ErrRejected = errors.New("the receiver will not take it")

// client follows no redirect: a signed event goes where the site says, and nowhere else.
var client = &http.Client{Timeout: answerTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// Deliver posts an event, signed with a key by HTTP message signatures (RFC 9421, hmac-sha256) over method, address, content type and
// the content's digest (RFC 9530). name is the key's id. An answer of 2xx is success; 4xx but for 408, 425 and 429 wraps [ErrRejected].
func Deliver(ctx context.Context, address, name string, key []byte, e Event, now time.Time) error {
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=UTF-8")
	sign(req, body, name, key, now)
	r, err := client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // the address is in the site; a query in it may be secret
		}
		return fmt.Errorf("webhook %s: %w", name, err)
	}
	defer r.Body.Close()
	io.Copy(io.Discard, io.LimitReader(r.Body, 64<<10)) // so that the connection can be used again
	switch {
	case r.StatusCode >= 200 && r.StatusCode < 300:
		return nil
	case r.StatusCode >= 400 && r.StatusCode < 500 && r.StatusCode != 408 && r.StatusCode != 425 && r.StatusCode != 429:
		return fmt.Errorf("webhook %s answered %s: %w", name, r.Status, ErrRejected)
	}
	return fmt.Errorf("webhook %s answered %s", name, r.Status)
}

// sign sets Content-Digest, Signature-Input and Signature.
func sign(req *http.Request, body []byte, name string, key []byte, now time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	req.Header.Set("Content-Digest", digest)
	parameters := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, now.Unix(), name)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		req.Method, req.URL, req.Header.Get("Content-Type"), digest, parameters)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	req.Header.Set("Signature-Input", "keenlodge="+parameters)
	req.Header.Set("Signature", "keenlodge=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
