package recovery

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kestrel/internal/clock"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/operation"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// backKind is that of the operations that tell a former home site how machines of a group are to
// return there.
const backKind = "berth for the way back"

// backEvery is how often the other site is asked until it takes it.
const backEvery = 5 * time.Second

// backInput is what such an operation is asked for with.
type backInput struct {
	Group string          `json:"group"` // ID
	Who   string          `json:"who"`
	Berth json.RawMessage `json:"berth"`
}

// ensureBack sees to it that the former home hears how machines return.
func (r *Recovery) ensureBack(ctx context.Context, g directory.Record, rec records.Recovery, d passage) error {
	if len(d.WayBack) == 0 || g.Link == "" {
		return nil
	}
	id := uuid.NewSHA1(uuid.NameSpaceOID, []byte(rec.ID+"/way back")).String()
	return r.Operations.Ensure(ctx, id, backKind, g.Spec.Name, backInput{g.ID, d.Accept.By, d.WayBack})
}

// runBack tells it, as soon as it listens.
func (r *Recovery) runBack(ctx context.Context, w *operation.Work) (string, error) {
	var in backInput
	if err := w.Input(&in); err != nil {
		return "", err
	}
	said := ""
	for {
		g, ok := r.Groups.Get(in.Group)
		if !ok || !g.Home() || g.Link == "" {
			return "It is not needed any more.", nil
		}
		err := r.FillThere(ctx, in.Group, in.Who, in.Berth)
		if err == nil {
			return fmt.Sprintf("%s knows how its machines would return: as they ran there, unless somebody has said otherwise.", g.RecoveryName), nil
		}
		if p, is := problem.Of(err); is && len(p.Errors) > 0 {
			return fmt.Sprintf("%s does not take it: %s Say there how its machines arrive.", g.RecoveryName, p.Errors[0].Message), nil
		}
		if text := words.Sentence(err.Error()); text != said && ctx.Err() == nil {
			said = text
			w.Log("%s", text)
		}
		if err := clock.Sleep(ctx, r.Clock, backEvery); err != nil {
			return "", err
		}
	}
}
