package notify

import (
	"fmt"
	"strings"
	"time"

	"kestrel/internal/core/alert"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
)

// Events besides those of alerts.
const (
	Test   = "test"
	Digest = "digest"
	Report = "report"
	Step   = "step" // of a runbook
)

// Note is what a channel is told: the JSON form is the data of webhooks, and is kept.
type Note struct {
	Site    string     `json:"site"`
	Event   string     `json:"event"` // raised, escalated, cleared, digest, report, step or test
	At      time.Time  `json:"at"`
	Title   string     `json:"title"` // a line
	Alert   *AlertNote `json:"alert,omitempty"`
	Lines   []string   `json:"lines,omitempty"` // of a digest, worst first, or a report's summary
	Report  *Paper     `json:"report,omitempty"`
	Link    string     `json:"link,omitempty"` // to the console
	Channel string     `json:"channel"`
}

// Paper says which report it is; mails carry the document.
type Paper struct {
	Plan string    `json:"plan"` // its name
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	By   string    `json:"by,omitempty"`
	Tier string    `json:"tier,omitempty"`
	Tag  string    `json:"tag,omitempty"`
	Peer string    `json:"peer,omitempty"`
}

// AlertNote is an alert in it.
type AlertNote struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"`
	Level     string     `json:"level"`
	Thing     string     `json:"thing"`
	Name      string     `json:"name"`
	Text      string     `json:"text"`
	Mend      string     `json:"mend,omitempty"`
	Groups    []string   `json:"groups,omitempty"`
	Since     time.Time  `json:"since"`
	RaisedAt  time.Time  `json:"raisedAt"`
	ClearedAt *time.Time `json:"clearedAt,omitempty"`
}

// noteOf is what is told of an event.
func noteOf(site, console string, t alert.Telling, at time.Time) Note {
	a := t.Alert
	x := AlertNote{ID: a.ID, Kind: string(a.Kind), Level: string(a.Level), Thing: a.Thing.Kind, Name: a.Thing.Name, Text: a.Text, Mend: a.Mend, Groups: a.Members, Since: a.Since.UTC(), RaisedAt: a.RaisedAt.UTC()}
	if !a.Open() {
		x.ClearedAt = new(a.ClearedAt.UTC())
	}
	n := Note{Site: site, Event: string(t.Event), At: at.UTC(), Alert: &x}
	switch t.Event {
	case alert.Cleared:
		n.Title = fmt.Sprintf("%s: cleared after %s: %s", site, span.Format(a.ClearedAt.Sub(a.Since)), a.Title())
	case alert.Escalated:
		n.Title = fmt.Sprintf("%s: nobody has seen to it for %s: %s", site, span.Format(at.Sub(a.RaisedAt)), a.Title())
	default:
		n.Title = fmt.Sprintf("%s: %s", site, a.Title())
	}
	if console != "" {
		n.Link = console + "/alerts"
	}
	return n
}

// text is a note as plain text.
func (n Note) text() string {
	var b strings.Builder
	say := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	say("%s", n.Title)
	say("")
	if a := n.Alert; a != nil {
		if n.Event != string(alert.Cleared) {
			say("%s", a.Text)
			if a.Mend != "" {
				say("%s", a.Mend)
			}
		}
		if len(a.Groups) > 0 {
			say("%s held up by it: %s.", words.Upper(words.Are(len(a.Groups), "group")), words.Joined(a.Groups, 10))
		}
		say("Since %s.", stamp(a.Since))
		if a.ClearedAt != nil {
			say("Cleared %s.", stamp(*a.ClearedAt))
		}
	}
	for _, l := range n.Lines {
		say("%s", l)
	}
	if n.Link != "" {
		say("")
		say("%s", n.Link)
	}
	return b.String()
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 MST") }
