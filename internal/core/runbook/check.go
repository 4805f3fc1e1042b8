package runbook

import (
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"kestrel/internal/core/ident"
	"kestrel/internal/core/promise"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// recordPattern is a name in the DNS (RFC 1035, 2.3.1; RFC 2181, 11 allows more).
var recordPattern = regexp.MustCompile(`^[A-Za-z0-9_*]([A-Za-z0-9_-]{0,62})?(\.[A-Za-z0-9_]([A-Za-z0-9_-]{0,62})?)+\.?$`)

// Check says what is wrong with steps by themselves, field by field.
func Check(steps []Step, maxWave int) []promise.Finding {
	var out []promise.Finding
	if len(steps) > MaxSteps {
		return append(out, promise.Finding{Field: "steps", Message: fmt.Sprintf("A runbook has at most %d steps.", MaxSteps)})
	}
	for i, s := range steps {
		fault := func(field, format string, a ...any) {
			text := fmt.Sprintf(format, a...)
			if s.Name != "" && field != "name" {
				text = fmt.Sprintf("The step %s: %s", s.Name, text)
			}
			out = append(out, promise.Finding{Field: fmt.Sprintf("steps[%d].%s", i, field), Message: text})
		}
		if _, unseen := ident.Unseen(s.Name); s.Name == "" || s.Name != strings.TrimSpace(s.Name) || unseen || len([]rune(s.Name)) > MaxName {
			fault("name", "Give the step a name of at most %d characters, all of which can be seen.", MaxName)
		} else if slices.ContainsFunc(steps[:i], func(o Step) bool { return strings.EqualFold(o.Name, s.Name) }) {
			fault("name", "There is a step %s already.", s.Name)
		}
		if s.After < 0 || s.After > maxWave {
			fault("after", "A step comes after one of the waves 1 to %d, or before the first with 0.", maxWave)
		}
		if !slices.Contains([]Only{"", InDrill, InFailover}, s.Only) {
			fault("only", "%q is neither drill nor failover; leave it out for both.", s.Only)
		}
		if !slices.Contains([]Failure{"", Ask, GoOn, Stop}, s.Failure) {
			fault("onFailure", "%q is none of ask, go-on, stop.", s.Failure)
		}
		if s.Limit < 0 || s.Limit > MaxSpan {
			fault("limitSeconds", "A step takes at most %s.", span.Format(MaxSpan))
		}
		for field, text := range map[string]string{"command": s.Command, "text": s.Text, "url": s.URL, "machine": s.Machine, "record": s.Record, "server": s.Server} {
			if _, unseen := ident.Unseen(text); unseen || len([]rune(text)) > MaxText {
				fault(field, "One line of at most %d characters, all of which can be seen.", MaxText)
			}
		}
		s.checkKind(fault)
	}
	return out
}

func (s Step) checkKind(fault func(field, format string, a ...any)) {
	needs := func(field, text, what string) {
		if text == "" {
			fault(field, "Say %s.", what)
		}
	}
	switch s.Kind {
	case Wait:
		if s.Span <= 0 || s.Span > MaxSpan {
			fault("spanSeconds", "Say how long it waits, at most %s.", span.Format(MaxSpan))
		}
	case Port:
		needs("machine", s.Machine, "of which machine")
		if s.Port < 1 || s.Port > 65535 {
			fault("port", "A port is a number from 1 to 65535.")
		}
	case HTTP:
		u, err := url.Parse(s.URL)
		switch {
		case err != nil || u.Hostname() == "" || u.Scheme != "http" && u.Scheme != "https":
			fault("url", "%q is no address such as http://tick-app:8080/health; its host may be the name of a machine at home.", s.URL)
		case u.User != nil:
			fault("url", "Leave user and password out of the address: it is shown to whoever sees the runbook.")
		}
		if s.Status != 0 && (s.Status < 100 || s.Status > 599) {
			fault("status", "A status is a number from 100 to 599; leave it out for any below 400.")
		}
	case Guest:
		needs("machine", s.Machine, "in the guest of which machine")
		needs("command", s.Command, "which command")
	case Serial:
		needs("machine", s.Machine, "of which machine")
		needs("text", s.Text, "which text")
	case Host:
		needs("command", s.Command, "which command of the host's folder of commands")
	case DNS:
		s.checkDNS(fault)
	case Message:
		needs("text", s.Text, "what is told")
		if len(s.Channels) == 0 || len(s.Channels) > MaxTo {
			fault("channels", "Name one to %d channels.", MaxTo)
		}
	case Person:
		needs("text", s.Text, "what is asked of them")
	default:
		var all []string
		for _, k := range Kinds() {
			all = append(all, string(k))
		}
		fault("kind", "%q is none of %s.", s.Kind, strings.Join(all, ", "))
	}
}

func (s Step) checkDNS(fault func(field, format string, a ...any)) {
	if s.Server == "" {
		fault("server", "Name one of the site's DNS servers.")
	}
	if len(s.Record) > 253 || !recordPattern.MatchString(s.Record) {
		fault("record", "%q is no whole name, such as tickets.skerry.example.", s.Record)
	}
	if !slices.Contains([]string{"A", "AAAA", "CNAME"}, s.Type) {
		fault("type", "%q is none of A, AAAA, CNAME.", s.Type)
	}
	if s.TTL < 0 || s.TTL > span.Day {
		fault("ttlSeconds", "It is remembered for a day at most.")
	}
	if len(s.To) == 0 || len(s.To) > MaxTo || s.Type == "CNAME" && len(s.To) > 1 {
		fault("to", "Say what it is to say: one to %d addresses, or {NAME} for that of a machine here; one name for a CNAME.", MaxTo)
	}
	for k, t := range s.To {
		at := fmt.Sprintf("to[%d]", k)
		bare := namedMachine.FindString(t) == t && t != ""
		a, err := netip.ParseAddr(t)
		switch {
		case s.Type == "CNAME":
			if !recordPattern.MatchString(t) {
				fault(at, "%q is no whole name.", t)
			}
		case bare:
		case err != nil || a.Zone() != "" || a.Is4() != (s.Type == "A"):
			fault(at, "%q is no address for %s; {NAME} is that of the machine NAME here.", t, s.Type)
		}
	}
}

// Lists is what steps may name at a site.
type Lists struct {
	Machines []string // of the group
	Commands []string // of the host
	Servers  []string // of DNS
	Channels []string
}

// Survey says which of what steps name is not there.
func Survey(steps []Step, l Lists) []promise.Finding {
	var out []promise.Finding
	for i, s := range steps {
		lacks := func(field, text, what string, of []string) {
			if slices.ContainsFunc(of, func(x string) bool { return strings.EqualFold(x, text) }) {
				return
			}
			there := "there is none"
			if len(of) > 0 {
				there = "there is " + words.Joined(of, 6)
			}
			out = append(out, promise.Finding{Field: fmt.Sprintf("steps[%d].%s", i, field), Message: fmt.Sprintf("The step %s: there is no %s %q; %s.", s.Name, what, text, there)})
		}
		for _, m := range s.Machines() {
			lacks("machine", m, "machine", l.Machines)
		}
		switch s.Kind {
		case Host:
			lacks("command", s.Command, "command of the host", l.Commands)
		case DNS:
			lacks("server", s.Server, "DNS server of the site", l.Servers)
		case Message:
			for _, c := range s.Channels {
				lacks("channels", c, "channel", l.Channels)
			}
		}
	}
	return out
}
