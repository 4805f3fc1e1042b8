package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"kestrel/internal/clock"
	"kestrel/internal/problem"
)

func (d *demo) makeGroup(ctx context.Context, p plan) error {
	in, err := p.newGroup()
	if err != nil {
		return err
	}
	return d.post(ctx, p.home, "/groups", in)
}

// post asks a site to make something, until it accepts: what it rests on, such
// as an inventory, may just be coming up.
func (d *demo) post(ctx context.Context, at, path string, in any) error {
	return d.send(ctx, http.MethodPost, at, path, in)
}

// send is post by another method.
func (d *demo) send(ctx context.Context, method, at, path string, in any) error {
	var home place
	for _, s := range d.sites {
		if s.name == at {
			home = s
		}
	}
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	for try := 0; ; try++ {
		req, err := http.NewRequestWithContext(ctx, method, home.url()+"/api/v1"+path, bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+d.secrets.Tokens[at])
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		pr := &problem.Problem{}
		_ = json.NewDecoder(res.Body).Decode(pr)
		_ = res.Body.Close()
		if res.StatusCode < 300 {
			return nil
		}
		// The inventory may not have been read yet.
		if try == 100 {
			return fmt.Errorf("%s: %w", res.Status, pr)
		}
		if err := clock.Sleep(ctx, clock.Wall{}, 100*time.Millisecond); err != nil {
			return err
		}
	}
}
