package httpapi

import (
	"context"
	"net/http"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/labstack/echo/v5"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/core/span"
	"kestrel/internal/directory"
	"kestrel/internal/overview"
)

// feedPath is where programs for calendars read what is to come. They can send no
// headers, so the token is in the address.
const feedPath = "/api/v1/calendar.ics"

// feedAhead is how far ahead a feed tells.
const feedAhead = 31 * span.Day

func (h *handlers) GetCalendar(ctx context.Context, request api.GetCalendarRequestObject) (api.GetCalendarResponseObject, error) {
	p := request.Params
	v, err := h.Overview.Calendar(overview.CalendarOf{From: value(p.From), To: value(p.To), Group: value(p.Group), Link: value(p.Link), See: h.limited(ctx)})
	return api.GetCalendar200JSONResponse(v), err
}

// limited tells which groups somebody who is limited sees; nil for somebody who is not.
func (h *handlers) limited(ctx context.Context) func(directory.Record) bool {
	if len(who(ctx).Tags) == 0 {
		return nil
	}
	return sees(ctx)
}

// feed is the calendar in the form of RFC 5545.
func (h *handlers) feed(c *echo.Context) error {
	ctx := c.Request().Context()
	a := who(ctx)
	switch {
	case a.Held != "":
		return forbidden(a.Held)
	case c.QueryParam("token") != "" && a.Role != actor.Viewer:
		// Addresses are kept in more places than headers are.
		return forbidden("An address with a token is read by others sooner than a header: use a token of the role viewer.")
	}
	now := h.Site.Now()
	v, err := h.Overview.Calendar(overview.CalendarOf{From: now, To: now.Add(feedAhead), Group: c.QueryParam("group"), Link: c.QueryParam("link"), See: h.limited(ctx)})
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", `inline; filename="kestrel-tide.ics"`)
	return c.Blob(http.StatusOK, "text/calendar; charset=utf-8", []byte(feedOf(h.Site.Self().Name, v, now)))
}

// shortest is how long an event is drawn at least, so that it can be seen.
const shortest = 5 * time.Minute

func feedOf(site string, v api.Calendar, now time.Time) string {
	cal := ics.NewCalendarFor("Kestrel Tide")
	cal.SetMethod(ics.MethodPublish)
	cal.SetXWRCalName("Cycles of " + site)
	cal.SetXPublishedTTL("PT1H")
	text := "Starts of cycles that are foretold."
	for _, s := range v.Steady {
		text += " " + s.GroupName + ": " + s.Cadence + ", not listed one by one."
	}
	cal.SetXWRCalDesc(text)
	for _, s := range v.Starts {
		e := cal.AddEvent(s.Group + "-" + s.At.Format("20060102T150405Z") + "@kestrel-tide")
		e.SetDtStampTime(now)
		e.SetStartAt(s.At)
		length := shortest
		if s.LengthSeconds != nil {
			length = max(length, time.Duration(*s.LengthSeconds)*time.Second)
		}
		e.SetEndAt(s.At.Add(length))
		e.SetSummary(s.GroupName)
		e.SetTimeTransparency(ics.TransparencyTransparent)
		text := "A cycle starts."
		if s.Note != nil {
			text += " " + *s.Note + "."
		}
		if s.Clash != nil {
			for _, g := range *s.Clash {
				text += " At the same time: " + g + "."
			}
		}
		e.SetDescription(text)
	}
	return cal.Serialize()
}
