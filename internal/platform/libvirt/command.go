package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"time"

	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/core/words"
	"kestrel/internal/platform"
)

// restLimit is how long a guest may take to come to rest.
func (d *Driver) restLimit(m *held) time.Duration {
	if m.rest.Limit > 0 {
		return m.rest.Limit
	}
	return d.freezeLimit
}

// commandBefore runs what a guest is to do before it comes to rest. One that fails
// leaves the machine to be captured as it is.
func (d *Driver) commandBefore(ctx context.Context, r platform.CaptureRequest, m *held) {
	var resting bool
	if m.rest, resting = r.Resting(m.id); !resting || !m.running || m.cannotFreeze() != "" {
		return
	}
	m.asked = true
	if m.rest.Before == "" {
		return
	}
	from := d.now()
	if err := d.exec(ctx, m, m.rest.Before); err != nil {
		m.unfit = "the command before: " + err.Error()
	}
	m.quiet.Took = d.now().Sub(from)
}

// commandsAfter runs what guests are to do once they were let go, whatever came of it:
// what the command before stopped has to go on.
func (d *Driver) commandsAfter(ctx context.Context, all []*held) {
	ctx = context.WithoutCancel(ctx)
	_ = each(all, func(m *held) error {
		if !m.asked || m.rest.After == "" {
			return nil
		}
		if err := d.exec(ctx, m, m.rest.After); err != nil {
			m.quiet.Machine, m.quiet.After = m.id, "the command after: "+err.Error()
			d.log.Warn("a command in a guest failed", "machine", m.x.Name, "err", err)
		}
		return nil
	})
}

// commandPoll is how often the agent is asked whether a command has ended.
const commandPoll = 50 * time.Millisecond

// exec runs a command in a guest by its agent. It has as long as the guest has to come
// to rest.
func (d *Driver) exec(ctx context.Context, m *held, command string) error {
	return voice{m.h, m.dom, d.restLimit(m)}.exec(ctx, command)
}

// voice asks a guest's agent.
type voice struct {
	h     *host
	dom   rpc.Domain
	limit time.Duration
}

// exec runs a command: the QEMU guest agent's guest-exec, as its reference describes it.
func (v voice) exec(ctx context.Context, command string) error {
	ctx, cancel := context.WithTimeout(ctx, v.limit)
	defer cancel()
	shell, args := "/bin/sh", []string{"-c", command}
	var os struct {
		ID string `json:"id"`
	}
	if err := v.ask(ctx, "guest-get-osinfo", nil, &os); err == nil && os.ID == "mswindows" {
		shell, args = "cmd.exe", []string{"/c", command}
	}
	var begun struct {
		PID int `json:"pid"`
	}
	if err := v.ask(ctx, "guest-exec", map[string]any{"path": shell, "arg": args, "capture-output": true}, &begun); err != nil {
		return err
	}
	for {
		var end struct {
			Exited bool   `json:"exited"`
			Code   int    `json:"exitcode"`
			Signal int    `json:"signal"`
			Out    string `json:"out-data"`
			Err    string `json:"err-data"`
		}
		if err := v.ask(ctx, "guest-exec-status", map[string]any{"pid": begun.PID}, &end); err != nil {
			return err
		}
		switch {
		case end.Exited && end.Code == 0 && end.Signal == 0:
			return nil
		case end.Exited:
			return fmt.Errorf("it ended with code %d%s", end.Code, lastWords(end.Err, end.Out))
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("it did not end within %s", v.limit)
		case <-time.After(commandPoll):
		}
	}
}

// lastWords is the last line of what a command said, as far as it can be shown.
func lastWords(said ...string) string {
	for _, s := range said {
		b, err := base64.StdEncoding.DecodeString(s)
		if err != nil || len(b) == 0 {
			continue
		}
		return ": " + words.LastLine(string(b), 120)
	}
	return ""
}

// ask gives one command of the agent's protocol, and reads its answer into out.
func (v voice) ask(ctx context.Context, command string, args, out any) error {
	text, err := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
	}{command, args})
	if err != nil {
		return err
	}
	return do(ctx, v.h, v.limit+freezeSlack, func(l *rpc.Libvirt) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		answer, err := l.QEMUDomainAgentCommand(v.dom, string(text), int32(max(1, v.limit/time.Second)), 0)
		switch {
		case is(err, rpc.ErrAgentUnresponsive, rpc.ErrAgentCommandTimeout, rpc.ErrAgentUnsynced):
			return fmt.Errorf("%w within %s", platform.ErrSilent, v.limit)
		case is(err, rpc.ErrOperationInvalid):
			return fmt.Errorf("%w: %w", platform.ErrSilent, err) // it is off
		case err != nil:
			return fmt.Errorf("its guest agent refused: %w", err)
		case len(answer) == 0:
			return fmt.Errorf("its guest agent said nothing")
		}
		var x struct {
			Return json.RawMessage `json:"return"`
		}
		if err := json.Unmarshal([]byte(answer[0]), &x); err != nil {
			return fmt.Errorf("what its guest agent said is not understood: %w", err)
		}
		return json.Unmarshal(x.Return, out)
	})
}
