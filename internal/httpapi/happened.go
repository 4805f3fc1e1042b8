package httpapi

import (
	"context"
	"fmt"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/span"
	"kestrel/internal/core/words"
	"kestrel/internal/directory"
	"kestrel/internal/problem"
	"kestrel/internal/records"
	"kestrel/internal/report"
)

const (
	// looked is how far back somebody may have looked last.
	looked = 92 * span.Day
	// few is how many lines are told of one matter.
	few = 6
)

func (h *handlers) GetFigures(ctx context.Context, request api.GetFiguresRequestObject) (api.GetFiguresResponseObject, error) {
	v, err := h.Overview.Figures(value(request.Params.By), sees(ctx), func(r directory.Record) (bool, bool) {
		x, known := h.Lookout.Of(r)
		return known && x.Ready, known
	})
	return api.GetFigures200JSONResponse(v), err
}

// GetHappened tells what happened since somebody last looked: what is open still, what came
// and went, how promises were kept meanwhile, and what people did.
func (h *handlers) GetHappened(ctx context.Context, request api.GetHappenedRequestObject) (api.GetHappenedResponseObject, error) {
	now, since := h.Site.Now().UTC(), request.Params.Since.UTC()
	switch {
	case !since.Before(now):
		return nil, problem.Invalid("since", "That is not past yet; give an earlier time.")
	case now.Sub(since) > looked:
		return nil, problem.Invalid("since", "It is told of the last %s; give a later time.", span.Format(looked))
	}
	v := api.Happened{From: since, To: now, Lines: []api.HappenedLine{}}
	add := func(tone api.HappenedLineTone, at *time.Time, href, text string) {
		l := api.HappenedLine{Tone: tone, Text: text, At: at}
		if href != "" {
			l.Href = &href
		}
		v.Lines = append(v.Lines, l)
	}
	open := 0
	for _, a := range h.Watch.Alerts(h.seesID(ctx)) {
		if a.RaisedAt.Before(since) {
			continue
		}
		if open++; open <= few {
			tone := api.HappenedLineToneTight
			if a.Level == api.Urgent {
				tone = api.HappenedLineToneOver
			}
			add(tone, &a.Since, "/alerts", fmt.Sprintf("%s: %s, and still so.", a.Name, a.Kind))
		}
	}
	if open > few {
		add(api.HappenedLineToneTight, nil, "/alerts", fmt.Sprintf("%s more that are open.", words.Upper(words.Count(open-few, "alert"))))
	}
	cleared, err := h.Watch.Cleared(ctx, &since, nil, 100, h.seesID(ctx))
	if err != nil {
		return nil, err
	}
	for i, a := range cleared {
		if i == few {
			add(api.HappenedLineTonePlain, nil, "/alerts?show=cleared", fmt.Sprintf("%s more came and went.", words.Upper(words.Count(len(cleared)-few, "alert"))))
			break
		}
		over := a.Since
		if a.ClearedAt != nil {
			over = *a.ClearedAt
		}
		add(api.HappenedLineTonePlain, &a.Since, "/alerts?show=cleared", fmt.Sprintf("%s: %s for %s; over now.", a.Name, a.Kind, span.Format(over.Sub(a.Since).Round(time.Second))))
	}
	kept, err := h.Overview.Attainment(ctx, "", "", &since, &now, sees(ctx))
	if err != nil {
		return nil, err
	}
	if t := kept.Total; t.CoveredSeconds > 0 {
		tone, text := api.HappenedLineToneGood, "All targets were kept"
		if t.OverSeconds > 0 {
			tone, text = api.HappenedLineToneTight, fmt.Sprintf("Targets were kept for %s of the time, %s over together", report.Share(t.KeptShare), span.Format(time.Duration(t.OverSeconds)*time.Second))
		}
		add(tone, nil, "/attainment", fmt.Sprintf("%s; %s sealed, %d failed, %s missed.", text, words.Count(t.Sealed, "cycle"), t.Failed, words.Count(t.Missed, "start")))
	}
	err = h.did(ctx, since, add)
	return api.GetHappened200JSONResponse(v), err
}

// did adds what people did since an instant, of what somebody may see.
func (h *handlers) did(ctx context.Context, since time.Time, add func(tone api.HappenedLineTone, at *time.Time, href, text string)) error {
	lines, err := h.Trail.Lines(ctx, records.Sought{By: string(actor.Person), Since: since, Limit: activityPage})
	if err != nil {
		return err
	}
	limited, see := len(who(ctx).Tags) > 0, h.seesID(ctx)
	n := 0
	for _, l := range lines {
		if limited && (l.Object == "" || !see(l.Object)) {
			continue
		}
		if n++; n <= few {
			add(api.HappenedLineTonePlain, new(l.At.UTC()), "/activity", words.Sentence(l.Text))
		}
	}
	if n > few {
		add(api.HappenedLineTonePlain, nil, "/activity", fmt.Sprintf("%s more by people.", words.Upper(words.Count(n-few, "act"))))
	}
	return nil
}
