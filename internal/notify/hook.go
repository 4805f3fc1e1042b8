package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
)

// typePrefix begins the types of events, as CloudEvents wants them to be named; alertPrefix
// those of alerts.
const (
	typePrefix  = "kestrel-tide."
	alertPrefix = typePrefix + "alert."
)

// event is a note as a CloudEvent 1.0. Its ID is that of the message at each try, so that a
// receiver can leave aside what it has; number rises in the order of a channel's messages.
func event(siteID, id string, number int64, n Note) ([]byte, error) {
	e := cloudevents.New(cloudevents.CloudEventsVersionV1)
	e.SetID(id)
	e.SetSource("urn:uuid:" + siteID)
	e.SetType(typePrefix + n.Event)
	if n.Alert != nil {
		e.SetType(alertPrefix + n.Event)
	}
	e.SetTime(n.At)
	if n.Alert != nil {
		e.SetSubject(n.Alert.ID)
	}
	e.SetExtension("sequence", fmt.Sprintf("%020d", number)) // of CloudEvents' Sequence extension
	if err := e.SetData(cloudevents.ApplicationJSON, n); err != nil {
		return nil, fmt.Errorf("write event: %w", err)
	}
	if err := e.Validate(); err != nil {
		return nil, fmt.Errorf("write event: %w", err)
	}
	return json.Marshal(e)
}

// sign is the signature of a request: HMAC-SHA256 over ID, time and body, apart by dots.
func sign(key, id, at string, body []byte) string {
	h := hmac.New(sha256.New, []byte(key))
	for _, part := range [][]byte{[]byte(id), []byte("."), []byte(at), []byte("."), body} {
		h.Write(part)
	}
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// post posts a note. Whatever the receiver answers below 300 is a yes.
func (d deliverer) post(ctx context.Context, c Channel, secret, id string, number int64, n Note) error {
	body, err := event(d.siteID, id, number, n)
	if err != nil {
		return err
	}
	roots, err := c.roots()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, d.waits.Try)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(d.now().Unix(), 10)
	r.Header.Set("Content-Type", cloudevents.ApplicationCloudEventsJSON)
	r.Header.Set("Idempotency-Key", id)
	r.Header.Set("Webhook-Id", id)
	r.Header.Set("Webhook-Timestamp", at)
	r.Header.Set("Webhook-Signature", sign(secret, id, at, body))
	client := http.Client{
		Transport: &http.Transport{DialContext: d.dial, TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, DisableKeepAlives: true},
		// Where it is sent is what people said, not what a server says.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	res, err := client.Do(r)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode < 300 {
		return nil
	}
	said, _ := io.ReadAll(io.LimitReader(res.Body, 200)) // as much as came is told
	text := strings.Join(strings.Fields(string(said)), " ")
	if text == "" {
		return fmt.Errorf("it answered %s", res.Status)
	}
	return fmt.Errorf("it answered %s: %q", res.Status, text)
}
