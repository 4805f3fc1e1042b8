package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"kestrel/internal/api"
	"kestrel/internal/problem"
)

// asks tells whether somebody sits at a terminal who can be asked.
func (a *app) asks(stdin bool) bool {
	f, ok := a.In.(*os.File)
	return ok && !stdin && term.IsTerminal(int(f.Fd()))
}

// hidden asks for what must not be seen, or reads a line.
func (a *app) hidden(ask string, stdin bool) (string, error) {
	if !a.asks(stdin) {
		return a.next()
	}
	_, _ = fmt.Fprint(a.Err, ask)
	b, err := term.ReadPassword(int(a.In.(*os.File).Fd()))
	_, _ = fmt.Fprintln(a.Err)
	return string(b), err
}

func (a *app) password(stdin bool) (string, error) { return a.hidden("Password: ", stdin) }

// line asks for what may be seen.
func (a *app) line(ask string) (string, error) {
	_, _ = fmt.Fprint(a.Err, ask)
	return a.next()
}

// next reads a line of standard input.
func (a *app) next() (string, error) {
	if a.lines == nil {
		a.lines = bufio.NewReader(a.In)
	}
	line, err := a.lines.ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("read standard input: %w", err)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// signIn begins a session with a password, or with a one-time link; a code is asked for
// where one is needed.
func (a *app) signIn(ctx context.Context, server, welcome, user, password string) (session *api.Client, me api.Me, err error) {
	c, err := newClient(server, "")
	if err != nil {
		return nil, me, err
	}
	try := func(code *string) (*http.Response, error) {
		if welcome != "" {
			return c.Welcome(ctx, api.Welcome{Token: welcome, Name: user, Password: password, Code: code})
		}
		return c.SignIn(ctx, api.SignIn{Name: user, Password: password, Code: code})
	}
	res, err := try(nil)
	if me, err = read[api.Me](res, err); wantsCode(err) {
		code, asked := a.line("Code of your authenticator: ")
		if asked != nil {
			return nil, me, asked
		}
		res, err = try(&code)
		me, err = read[api.Me](res, err)
	}
	if err != nil {
		return nil, me, err
	}
	cookies := res.Cookies()
	if len(cookies) == 0 {
		return nil, me, errors.New("the service gave no session")
	}
	session, err = newClient(server, cookies[0].Value)
	return session, me, err
}

// wantsCode tells whether a sign-in was refused for want of a code.
func wantsCode(err error) bool {
	p, ok := problem.Of(err)
	return ok && p.Status == http.StatusUnauthorized && slices.ContainsFunc(p.Errors, func(f problem.Field) bool { return f.Field == "code" })
}
