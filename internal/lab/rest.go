package lab

import (
	"fmt"
	"sync"
	"time"

	"kestrel/internal/lab/wire"
	"kestrel/internal/platform"
)

// agentPatience is how long an agent may take if nothing else is asked for.
const agentPatience = 5 * time.Second

// resting is a machine whose guest is brought to rest.
type resting struct {
	*machine
	wire.Rest
	quiet wire.Quiet
	held  time.Time
}

// settle asks agents to have their guests flush what they have not written, all at the
// same time. Time is really waited for: it is what an agent needs. No lock is held.
func (l *Lab) settle(r wire.CheckpointRequest) []*resting {
	var all []*resting
	l.mu.Lock()
	for _, q := range r.Quiesce {
		for _, m := range l.machines {
			if m.id == q.Machine && m.guest != nil && m.power == platform.PowerOn {
				all = append(all, &resting{machine: m, Rest: q, quiet: wire.Quiet{Machine: m.id}})
			}
		}
	}
	l.mu.Unlock()
	var wg sync.WaitGroup
	for _, m := range all {
		wg.Go(func() {
			from := l.clk.Now()
			limit := time.Duration(m.LimitMillis) * time.Millisecond
			if limit <= 0 {
				limit = agentPatience
			}
			m.quiet.Why = m.flush(l, m.Before, limit)
			m.quiet.TookMicros = l.clk.Now().Sub(from).Microseconds()
		})
	}
	wg.Wait()
	return all
}

// hold keeps guests that have settled from their next transaction, and has their disks
// say so. The instant must not be held: guests finish the transaction that they are in.
func (l *Lab) hold(all []*resting) {
	for _, m := range all {
		if m.quiet.Why != "" {
			continue
		}
		m.guest.between.Lock()
		m.held, m.quiet.Done = l.clk.Now(), true
		if err := m.guest.rec.Rest(m.guest.first, true); err != nil {
			m.quiet.Done, m.quiet.Why = false, err.Error()
		}
	}
}

// letGo ends a hold and tells how it went.
func (l *Lab) letGo(all []*resting) []wire.Quiet {
	var out []wire.Quiet
	for _, m := range all {
		if !m.held.IsZero() {
			if err := m.guest.rec.Rest(m.guest.first, false); err != nil {
				m.quiet.After = err.Error()
			}
			m.guest.between.Unlock()
			m.quiet.HeldMicros = l.clk.Now().Sub(m.held).Microseconds()
		}
		if m.Agent != nil && !m.Agent.Silent {
			if why := m.Agent.run(m.After); why != "" {
				m.quiet.After = "the command after: " + why
			}
		}
		out = append(out, m.quiet)
	}
	return out
}

// flush has an agent do what comes before a guest is held; it says why that failed.
func (m *machine) flush(l *Lab, before string, limit time.Duration) string {
	switch a := m.Agent; {
	case a == nil:
		return "it has no guest agent"
	case a.Silent:
		<-l.clk.After(limit)
		return fmt.Sprintf("its guest agent did not answer within %s", limit)
	case time.Duration(a.RestMillis)*time.Millisecond > limit:
		<-l.clk.After(limit)
		return fmt.Sprintf("its file systems were not at rest within %s", limit)
	default:
		if why := a.run(before); why != "" {
			return "the command before: " + why
		}
		<-l.clk.After(time.Duration(a.RestMillis) * time.Millisecond)
		return ""
	}
}

// run does a command, and says what went wrong.
func (a *Agent) run(command string) string {
	if command == "" {
		return ""
	}
	code, known := a.Commands[command]
	switch {
	case !known:
		return fmt.Sprintf("it ended with code 127: %s: not found", command)
	case code != 0:
		return fmt.Sprintf("it ended with code %d", code)
	}
	return ""
}
