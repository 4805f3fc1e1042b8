package landing

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kestrel/internal/core/actor"
	"kestrel/internal/events"
	"kestrel/internal/platform"
	"kestrel/internal/problem"
)

// operator finds a landing and the driver that switches it.
func (l *Landings) operator(id string) (*state, platform.Operator, error) {
	s, err := l.find(id)
	if err != nil {
		return nil, nil, err
	}
	d, err := l.lander(s)
	if err != nil {
		return nil, nil, err
	}
	o, can := d.(platform.Operator)
	if !can {
		return nil, nil, problem.Conflict("Machines of this platform cannot be switched or looked at from here.")
	}
	return s, o, nil
}

// Switch switches a landed machine.
func (l *Landings) Switch(ctx context.Context, who actor.Actor, id, to string) error {
	if !slices.Contains([]string{platform.SwitchOn, platform.SwitchOff, platform.SwitchDown}, to) {
		return problem.Invalid("to", "%q is none of %s, %s, %s.", to, platform.SwitchOn, platform.SwitchOff, platform.SwitchDown)
	}
	s, o, err := l.operator(id)
	if err != nil {
		return err
	}
	l.mu.Lock()
	state := s.rec.State
	l.mu.Unlock()
	if slices.Contains([]string{preparing, waiting, copying, removing, gone}, state) {
		return problem.Conflict("%s is %s, and starts by itself when it can. It can be switched when it runs.", s.detail.Name, state)
	}
	err = l.Trail.Do(ctx, who, object(s), func(context.Context) error { return nil }, "%s switched %s: %s", who, s.detail.Name, to)
	if err != nil {
		return err
	}
	if err := o.Switch(ctx, s.rec.ID, to); err != nil {
		return problem.Unreachable("%s could not be switched: %v", s.detail.Name, err)
	}
	l.Inventory.Refresh(ctx, s.rec.Platform)
	l.Hub.Send(events.Event{Type: "landing", ID: s.rec.ID})
	return nil
}

// Screen is what a landed machine shows, as a PNG.
func (l *Landings) Screen(ctx context.Context, id string) ([]byte, error) {
	s, o, err := l.operator(id)
	if err != nil {
		return nil, err
	}
	shot, err := o.Screen(ctx, s.rec.ID)
	switch {
	case errors.Is(err, platform.ErrNoScreen):
		return nil, problem.Conflict("%s shows nothing: it has no graphics card, or is off.", s.detail.Name)
	case err != nil:
		return nil, problem.Unreachable("%s", fmt.Sprintf("The screen of %s could not be read: %v", s.detail.Name, err))
	}
	return shot, nil
}
