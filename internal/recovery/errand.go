package recovery

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/clock"
	"kestrel/internal/core/runbook"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/landing"
	"kestrel/internal/nameserver"
	"kestrel/internal/platform"
	"kestrel/internal/records"
)

const (
	// stepPause is between two looks of a step that waits for something.
	stepPause = time.Second
	// oneTry is how long one look may take.
	oneTry = 10 * time.Second
	// maxAnswer is how much of an answer is looked at, in bytes.
	maxAnswer = 1 << 20
)

// errand is a step that is to be done.
type errand struct {
	r        *Recovery
	rec      records.Recovery
	number   int64 // of its point
	step     runbook.Step
	progress runbook.Progress
	drill    bool
	// keep keeps what a name says before it is changed, so that it can be set back.
	keep func(before []string) error
}

// do does it, within the time that ctx leaves.
func (e errand) do(ctx context.Context) came {
	s := e.step
	switch s.Kind {
	case runbook.Wait:
		if err := clock.Sleep(ctx, e.r.Clock, e.progress.Began.Add(s.Span).Sub(e.r.Clock.Now())); err != nil {
			return came{err: err}
		}
		return came{said: "It waited " + span.Format(s.Span)}
	case runbook.Port:
		return e.until(ctx, fmt.Sprintf("Port %d of %s takes connections", s.Port, s.Machine), func(ctx context.Context) error {
			return e.ask(s.Machine, func(d platform.Lander, id string) error { return d.PortOpen(ctx, id, s.Port) })
		})
	case runbook.HTTP:
		return e.until(ctx, "It answers as it should", e.get)
	case runbook.Guest:
		return e.until(ctx, fmt.Sprintf("The command ended well in the guest of %s", s.Machine), func(ctx context.Context) error {
			left := oneTry
			if by, bounded := ctx.Deadline(); bounded {
				left = time.Until(by)
			}
			return e.ask(s.Machine, func(d platform.Lander, id string) error { return d.RunIn(ctx, id, s.Command, left) })
		})
	case runbook.Serial:
		return e.until(ctx, fmt.Sprintf("It has written %q", s.Text), func(ctx context.Context) error {
			return e.ask(s.Machine, func(d platform.Lander, id string) error {
				said, err := d.Serial(ctx, id)
				if err == nil && !bytes.Contains(said, []byte(s.Text)) {
					err = fmt.Errorf("it has not written %q; last was %q", s.Text, words.LastLine(string(said), 80))
				}
				return err
			})
		})
	case runbook.Host:
		return e.command(ctx)
	case runbook.DNS:
		return e.name(ctx)
	case runbook.Message:
		return e.tell(ctx)
	case runbook.Person:
		<-ctx.Done() // their word ends it
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return came{err: fmt.Errorf("nobody said anything within %s", span.Format(s.Until()))}
		}
		return came{err: ctx.Err()}
	}
	return came{err: fmt.Errorf("steps of the kind %q are not known here", s.Kind)}
}

// until tries something until it is so, or the time is over.
func (e errand) until(ctx context.Context, so string, try func(ctx context.Context) error) came {
	for {
		within, cancel := context.WithTimeout(ctx, e.patience())
		err := try(within)
		cancel()
		if err == nil {
			return came{said: so}
		}
		if clock.Sleep(ctx, e.r.Clock, stepPause) != nil {
			return came{err: fmt.Errorf("not within %s: %w", span.Format(e.step.Until()), err)}
		}
	}
}

// patience is how long one try may take. A command in a guest has all of the time.
func (e errand) patience() time.Duration {
	if e.step.Kind == runbook.Guest {
		return e.step.Until()
	}
	return oneTry
}

// machine finds one of the recovery by its name, at home or here.
func (e errand) machine(name string) (landing.Standing, bool) {
	all := e.r.Landings.OfRecovery(e.rec.ID)
	at := slices.IndexFunc(all, func(x landing.Standing) bool {
		return strings.EqualFold(x.Home, name) || strings.EqualFold(x.Name, name)
	})
	if at < 0 {
		return landing.Standing{}, false
	}
	return all[at], true
}

// ask asks a machine's platform.
func (e errand) ask(name string, f func(d platform.Lander, id string) error) error {
	x, ok := e.machine(name)
	if !ok {
		return fmt.Errorf("%s is no machine of this recovery", name)
	}
	d, err := e.r.Landings.Driver(x.ID)
	if err != nil {
		return err
	}
	return f(d, x.ID)
}

// get asks for what an address answers. A host that is a machine's name is reached through
// the machine's platform.
func (e errand) get(ctx context.Context) error {
	u, err := url.Parse(e.step.URL)
	if err != nil {
		return err
	}
	_, ours := e.machine(u.Hostname())
	dial := e.r.Dial
	if ours {
		dial = func(ctx context.Context, _, address string) (c net.Conn, err error) {
			_, text, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			port, err := net.LookupPort("tcp", text)
			if err != nil {
				return nil, err
			}
			err = e.ask(u.Hostname(), func(d platform.Lander, id string) (err error) {
				c, err = d.Dial(ctx, id, port)
				return err
			})
			return c, err
		}
	}
	// A machine's certificate is for the name by which people know it, not for that of the
	// machine: what is looked at is whether it answers.
	client := http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: ours, MinVersion: tls.VersionTLS12}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), http.NoBody)
	if err != nil {
		return err
	}
	res, err := client.Do(req)
	if err != nil {
		if bare := new(url.Error); errors.As(err, &bare) {
			err = bare.Err
		}
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if want := e.step.Status; want == 0 && res.StatusCode >= 400 || want > 0 && res.StatusCode != want {
		return fmt.Errorf("it answers with status %d", res.StatusCode)
	}
	if e.step.Text == "" {
		return nil
	}
	body, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return fmt.Errorf("read its answer: %w", err)
	}
	if !bytes.Contains(body, []byte(e.step.Text)) {
		return fmt.Errorf("its answer does not say %q", e.step.Text)
	}
	return nil
}

// kind is that of the recovery, as commands are told.
func (e errand) kind() string {
	if e.drill {
		return "drill"
	}
	return "live"
}

// command runs a command of this host.
func (e errand) command(ctx context.Context) came {
	told := map[string]string{"KESTREL_SITE": e.r.Site, "KESTREL_KIND": e.kind(), "KESTREL_GROUP": e.rec.GroupName, "KESTREL_POINT": fmt.Sprint(e.number),
		"KESTREL_STEP": e.step.Name, "KESTREL_RECOVERY": e.rec.ID, "KESTREL_TRY": fmt.Sprint(e.progress.Tries)}
	if err := e.r.Commands.Run(ctx, e.step.Command, told, e.step.Until()); err != nil {
		return came{err: fmt.Errorf("the command failed: %w", err)}
	}
	return came{said: fmt.Sprintf("The command %s ended well", e.step.Command)}
}

// says are what a name is to say, with the addresses of machines put in.
func (e errand) says() ([]string, error) {
	var to []string
	for _, t := range e.step.To {
		text, err := runbook.Fill(t, func(machine string) (string, error) {
			x, ok := e.machine(machine)
			if !ok {
				return "", fmt.Errorf("%s is no machine of this recovery", machine)
			}
			at := slices.IndexFunc(x.Addresses, func(a netip.Addr) bool { return a.Is4() == (e.step.Type == "A") })
			if at < 0 {
				return "", fmt.Errorf("no address of %s for %s is known", x.Name, e.step.Type)
			}
			return x.Addresses[at].String(), nil
		})
		if err != nil {
			return nil, err
		}
		to = append(to, text)
	}
	ttl := e.step.TTL
	if ttl == 0 {
		ttl = runbook.UsualTTL
	}
	return nameserver.Say(e.step.Record, e.step.Type, ttl, to)
}

// name changes what a name says; in a drill it is only said what would change.
func (e errand) name(ctx context.Context) came {
	s := e.step
	say, err := e.says()
	if err != nil {
		return came{err: err}
	}
	was, err := e.r.Names.Look(ctx, s.Server, s.Record, s.Type)
	if err != nil {
		return came{err: err}
	}
	change := fmt.Sprintf("%s in place of %s", nameserver.Words(say), nameserver.Words(was))
	if e.drill {
		return came{said: "Nothing was changed, as this is a drill. The name would say " + change}
	}
	// From here on it counts as changed: whether a server that does not answer has changed it
	// is not known, and setting it back does no harm.
	if err := e.keep(was); err != nil {
		return came{err: err}
	}
	if err := e.r.Names.Set(ctx, s.Server, s.Record, s.Type, say); err != nil {
		return came{err: err}
	}
	return came{said: "The name says " + change}
}

// tell has people told. The ID makes sure that each is told once of a try.
func (e errand) tell(ctx context.Context) came {
	id := uuid.NewSHA1(uuid.NameSpaceURL, fmt.Appendf(nil, "%s/%s/%d", e.rec.ID, e.step.Name, e.progress.Began.UnixNano()))
	title := fmt.Sprintf("%s of %s: %s", words.Upper(e.rec.Kind), e.rec.GroupName, e.step.Name)
	lines := []string{words.Sentence(e.step.Text), fmt.Sprintf("%s began it at %s, from point %d.", e.rec.StartedBy, e.rec.StartedAt.UTC().Format("2006-01-02 15:04:05 MST"), e.number)}
	if err := e.r.Tell(ctx, e.step.Channels, id.String(), title, lines); err != nil {
		return came{err: err}
	}
	return came{said: "It was handed to " + words.Joined(e.step.Channels, 4)}
}
