// Package runbook decides what is done in a recovery besides the start of machines: which
// step is next, what waits for it, and what a failed one means. Steps are said in a group's
// berth, and are kept with it.
package runbook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// Limits of what can be said.
const (
	MaxSteps = 100
	MaxName  = 60
	MaxText  = 500 // characters of a command, a text, an address
	MaxSpan  = 4 * time.Hour
	MaxTo    = 16
)

// Kind is what a step does.
type Kind string

// The kinds.
const (
	Wait    Kind = "wait"    // for a time
	Port    Kind = "port"    // until a machine takes connections on a TCP port
	HTTP    Kind = "http"    // until an answer has a status and a text
	Guest   Kind = "guest"   // until a command ends well in a machine's guest, by its agent
	Serial  Kind = "serial"  // until a machine has written a text to its serial console
	Host    Kind = "host"    // runs a command of this site's host
	DNS     Kind = "dns"     // changes a name at a DNS server (RFC 2136)
	Message Kind = "message" // tells people by channels
	Person  Kind = "person"  // waits for a person's word
)

// Kinds lists them.
func Kinds() []Kind { return []Kind{Wait, Port, HTTP, Guest, Serial, Host, DNS, Message, Person} }

// Failure is what comes of a step that fails.
type Failure string

// What comes of it.
const (
	Ask  Failure = "ask"   // all waits until somebody has it done again, or goes on without it
	GoOn Failure = "go-on" // it is noted, and the next is done
	Stop Failure = "stop"  // a failover is stopped, a drill is ended
)

// Only says in which recoveries a step is done; empty is in all.
type Only string

// The recoveries.
const (
	InFailover Only = "failover"
	InDrill    Only = "drill"
)

// Step is one of a runbook. What a kind does not need is empty.
type Step struct {
	Name    string        `json:"name"`  // of which a runbook has each once
	After   int           `json:"after"` // wave after which it comes; 0 is before the first
	Kind    Kind          `json:"kind"`
	Only    Only          `json:"only,omitempty"`
	Failure Failure       `json:"failure,omitempty"` // empty is Ask
	Limit   time.Duration `json:"limit,omitempty"`   // 0 is the usual of its kind
	Span    time.Duration `json:"span,omitempty"`    // of Wait
	Machine string        `json:"machine,omitempty"` // name at home: of Port, Guest, Serial
	Port    int           `json:"port,omitempty"`
	Command string        `json:"command,omitempty"` // of Guest, and the name of one of Host
	URL     string        `json:"url,omitempty"`     // of HTTP; its host may be a machine's name at home
	Status  int           `json:"status,omitempty"`  // of HTTP; 0 is any below 400
	// Text is looked for in an answer or on a console, told in a message, asked of a person.
	Text     string        `json:"text,omitempty"`
	Server   string        `json:"server,omitempty"` // name of a DNS server
	Record   string        `json:"record,omitempty"` // the name that is changed
	Type     string        `json:"type,omitempty"`   // of the record: A, AAAA or CNAME
	TTL      time.Duration `json:"ttl,omitempty"`    // of the record; 0 is UsualTTL
	To       []string      `json:"to,omitempty"`     // what it says; {name} is the address of a machine here
	Channels []string      `json:"channels,omitempty"`
}

// UsualTTL is how long a changed name may be remembered by those who asked (RFC 1035, 3.2.1).
const UsualTTL = 5 * time.Minute

// Until is how long a step may take.
func (s Step) Until() time.Duration {
	switch {
	case s.Limit > 0:
		return s.Limit
	case s.Kind == Wait:
		return s.Span + time.Minute
	case s.Kind == Person:
		return MaxSpan
	case s.Kind == DNS, s.Kind == Message:
		return time.Minute
	}
	return 5 * time.Minute
}

// Fails is what comes of it when it fails.
func (s Step) Fails() Failure {
	if s.Failure == "" {
		return Ask
	}
	return s.Failure
}

// In tells whether it is done in a drill, or in a failover.
func (s Step) In(drill bool) bool {
	return s.Only == "" || drill == (s.Only == InDrill)
}

// Words says in a sentence what it does.
func (s Step) Words() string {
	switch s.Kind {
	case Wait:
		return "Waits " + span.Format(s.Span) + "."
	case Port:
		return fmt.Sprintf("Waits until %s takes connections on port %d.", s.Machine, s.Port)
	case HTTP:
		text := fmt.Sprintf("Waits until %s answers", s.URL)
		if s.Status > 0 {
			text += fmt.Sprintf(" with status %d", s.Status)
		}
		if s.Text != "" {
			text += fmt.Sprintf(" and says %q", s.Text)
		}
		return text + "."
	case Guest:
		return fmt.Sprintf("Waits until %q ends well in the guest of %s.", s.Command, s.Machine)
	case Serial:
		return fmt.Sprintf("Waits until %s has written %q to its serial console.", s.Machine, s.Text)
	case Host:
		return fmt.Sprintf("Runs the command %s of this site's host.", s.Command)
	case DNS:
		return fmt.Sprintf("Has %s say %s for %s (%s).", s.Server, strings.Join(s.To, ", "), s.Record, s.Type)
	case Message:
		return fmt.Sprintf("Tells %s: %s", words.Joined(s.Channels, 4), words.Sentence(s.Text))
	case Person:
		return "Waits for a person: " + words.Sentence(s.Text)
	}
	return ""
}

var namedMachine = regexp.MustCompile(`\{([^{}]+)\}`)

// Machines are the names of those that a step speaks of.
func (s Step) Machines() (out []string) {
	if s.Machine != "" {
		out = append(out, s.Machine)
	}
	for _, t := range s.To {
		for _, m := range namedMachine.FindAllStringSubmatch(t, -1) {
			out = append(out, m[1])
		}
	}
	return out
}

// Fill puts addresses of machines into what a record is to say; of gives that of one.
func Fill(text string, of func(machine string) (string, error)) (string, error) {
	var failed error
	out := namedMachine.ReplaceAllStringFunc(text, func(m string) string {
		a, err := of(m[1 : len(m)-1])
		if err != nil {
			failed = err
		}
		return a
	})
	return out, failed
}

// For gives the steps that are done in a drill or in a failover, in the order in which they are.
func For(all []Step, drill bool) []Step {
	out := slices.DeleteFunc(slices.Clone(all), func(s Step) bool { return !s.In(drill) })
	slices.SortStableFunc(out, func(a, b Step) int { return a.After - b.After })
	return out
}

// State is how far a step is.
type State string

// The states.
const (
	Ahead   State = "ahead" // of what has yet to come
	Running State = "running"
	Asking  State = "asking" // it failed, and somebody has to say what now
	Passed  State = "passed"
	Failed  State = "failed"
	Skipped State = "skipped" // somebody went on without it
)

// Over tells whether nobody waits for a step any more.
func (s State) Over() bool { return s == Passed || s == Failed || s == Skipped }

// Progress is how far a step is.
type Progress struct {
	Name  string    `json:"name"`
	State State     `json:"state"`
	Began time.Time `json:"began"` // the first time, of the try that counts
	Ended time.Time `json:"ended"`
	Tries int       `json:"tries,omitempty"`
	Said  string    `json:"said,omitempty"` // what came of it, in a sentence
	By    string    `json:"by,omitempty"`   // who decided on it
	// Before is what a name said before it was changed, as a zone file has it; it is set back
	// when a failover is backed out.
	Before  []string `json:"before,omitempty"`
	Changed bool     `json:"changed,omitempty"` // something outside was changed that can be set back
}

// Took is how long it took; 0 if it is not over.
func (p Progress) Took() time.Duration {
	if !p.State.Over() || p.Ended.Before(p.Began) {
		return 0
	}
	return p.Ended.Sub(p.Began)
}

// Of finds how far a step is.
func Of(all []Progress, name string) Progress {
	at := slices.IndexFunc(all, func(p Progress) bool { return p.Name == name })
	if at < 0 {
		return Progress{Name: name, State: Ahead}
	}
	return all[at]
}

// Turn finds the step whose turn it is, of those of one recovery in their order: the first
// that is not over, if the waves that it comes after have come up. None is -1.
func Turn(steps []Step, all []Progress, up func(wave int) bool) int {
	for i, s := range steps {
		if !Of(all, s.Name).State.Over() {
			if up(s.After) {
				return i
			}
			return -1
		}
	}
	return -1
}

// Gate says why machines of a wave have to wait for steps; empty if they need not.
func Gate(steps []Step, all []Progress, wave int) string {
	for _, s := range steps {
		if p := Of(all, s.Name); s.After < wave && !p.State.Over() {
			if p.State == Asking {
				return fmt.Sprintf("It waits for the step %s, which failed: somebody has to say what now.", s.Name)
			}
			return fmt.Sprintf("It waits for the step %s.", s.Name)
		}
	}
	return ""
}

// Over tells whether nobody waits for any step, and when the last ended.
func Over(steps []Step, all []Progress) (at time.Time, over bool) {
	for _, s := range steps {
		p := Of(all, s.Name)
		if !p.State.Over() {
			return time.Time{}, false
		}
		if p.Ended.After(at) {
			at = p.Ended
		}
	}
	return at, true
}

// Faults says in sentences which steps did not do what they were for; open are those that
// did not come to an end.
func Faults(steps []Step, all []Progress) (faults, open []string) {
	for _, s := range steps {
		switch p := Of(all, s.Name); p.State {
		case Failed, Asking:
			faults = append(faults, fmt.Sprintf("The step %s failed: %s", s.Name, words.Sentence(p.Said)))
		case Skipped:
			faults = append(faults, fmt.Sprintf("The step %s was left out: %s", s.Name, words.Sentence(p.Said)))
		case Ahead, Running:
			open = append(open, fmt.Sprintf("The step %s had not come to an end.", s.Name))
		}
	}
	return faults, open
}
