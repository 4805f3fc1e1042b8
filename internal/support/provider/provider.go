// Package provider runs a real OpenID Connect provider on loopback, for tests.
package provider

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"

	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
	"golang.org/x/text/language"
)

// Password is everybody's.
const Password = "a password at the provider"

// ClientID and ClientSecret are of the site that Start lets in.
const (
	ClientID     = "norhaven"
	ClientSecret = "the site's own secret"
)

// Provider is one that runs.
type Provider struct {
	Issuer string

	server *httptest.Server
	mu     sync.Mutex
	groups map[string][]string // by user ID
}

// users are the people of a provider.
type users struct{ all map[string]*storage.User }

func (u users) GetUserByID(id string) *storage.User { return u.all[id] }
func (u users) GetUserByUsername(name string) *storage.User {
	for _, x := range u.all {
		if x.Username == name {
			return x
		}
	}
	return nil
}
func (u users) ExampleClientID() string { return "service" }

// withGroups puts the claim "groups" into ID tokens and user info.
type withGroups struct {
	*storage.Storage
	p *Provider
}

func (s withGroups) SetUserinfoFromRequest(ctx context.Context, info *oidc.UserInfo, token op.IDTokenRequest, scopes []string) error {
	if err := s.Storage.SetUserinfoFromRequest(ctx, info, token, scopes); err != nil {
		return err
	}
	info.AppendClaims("groups", s.p.of(token.GetSubject()))
	return nil
}

func (s withGroups) SetUserinfoFromToken(ctx context.Context, info *oidc.UserInfo, tokenID, subject, origin string) error {
	if err := s.Storage.SetUserinfoFromToken(ctx, info, tokenID, subject, origin); err != nil {
		return err
	}
	info.AppendClaims("groups", s.p.of(subject))
	return nil
}

func (p *Provider) of(user string) []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.groups[user]...)
}

// SetGroups changes what groups somebody is in, by their ID, which is "id-" and their
// first name.
func (p *Provider) SetGroups(user string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.groups[user] = groups
}

// Start runs a provider that knows people by name, for a site whose console is at an
// address. Close ends it.
func Start(console string, names ...string) (*Provider, error) {
	p := &Provider{groups: map[string][]string{}}
	var handler http.Handler
	p.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { handler.ServeHTTP(w, r) }))
	p.Issuer = "http://localhost:" + p.server.URL[strings.LastIndex(p.server.URL, ":")+1:]
	all := users{map[string]*storage.User{}}
	for _, n := range names {
		all.all["id-"+n] = &storage.User{ID: "id-" + n, Username: n, Password: Password, FirstName: n, LastName: "Skerry", PreferredLanguage: language.English}
	}
	storage.RegisterClients(storage.WebClient(ClientID, ClientSecret, console+"/sign-on/back"))
	handler = exampleop.SetupServer(p.Issuer, withGroups{storage.NewStorage(all), p}, nil, false, op.WithAllowInsecure())
	return p, nil
}

// Close ends it.
func (p *Provider) Close() { p.server.Close() }

var requestID = regexp.MustCompile(`name="id" value="([^"]+)"`)

// LogIn does what somebody does in a browser that was sent to the provider: it fills in
// name and password, and gives where the browser is sent back to.
func (p *Provider) LogIn(ctx context.Context, where, name string) (*url.URL, error) {
	var back *url.URL
	c := &http.Client{CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if !strings.HasPrefix(r.URL.String(), p.Issuer) {
			back = r.URL
			return http.ErrUseLastResponse
		}
		return nil
	}}
	do := func(method, at string, body io.Reader) (string, error) {
		r, err := http.NewRequestWithContext(ctx, method, at, body)
		if err != nil {
			return "", err
		}
		if body != nil {
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		res, err := c.Do(r)
		if err != nil {
			return "", err
		}
		defer func() { _ = res.Body.Close() }()
		b, err := io.ReadAll(res.Body)
		return string(b), err
	}
	page, err := do(http.MethodGet, where, nil)
	if err != nil {
		return nil, err
	}
	if back != nil {
		return back, nil
	}
	id := requestID.FindStringSubmatch(page)
	if id == nil {
		return nil, fmt.Errorf("the provider shows no form but %s", page)
	}
	page, err = do(http.MethodPost, p.Issuer+"/login/username", strings.NewReader(url.Values{"id": {id[1]}, "username": {name}, "password": {Password}}.Encode()))
	if err == nil && back == nil {
		err = fmt.Errorf("the provider did not let %s in: %s", name, page)
	}
	return back, err
}
