package calendar_test

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // so that zones are known on every machine

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrel/internal/core/calendar"
)

func utc(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func TestStartsOfACalendar(t *testing.T) {
	for name, c := range map[string]struct {
		text, zone, from string
		want             string // of UTC, the first ones
	}{
		"several a day":         {"daily at 06:00, 12:30 and 18:00", "", "2026-11-26 07:00", "11-26 12:30, 11-26 18:00, 11-27 06:00"},
		"weekdays":              {"weekdays at 02:00", "", "2026-11-27 01:00", "11-27 02:00, 11-30 02:00, 12-01 02:00"},
		"days":                  {"fri, mon and wed at 21:00", "", "2026-11-26 00:00", "11-27 21:00, 11-30 21:00, 12-02 21:00"},
		"over the weekend":      {"sat-mon at 21:00", "", "2026-11-26 00:00", "11-28 21:00, 11-29 21:00, 11-30 21:00"},
		"last friday":           {"last friday of the month at 22:00", "", "2026-11-26 00:00", "11-27 22:00, 12-25 22:00, 01-29 22:00"},
		"second tuesday":        {"2nd tue of the month at 01:15", "", "2026-11-26 00:00", "12-08 01:15, 01-12 01:15, 02-09 01:15"},
		"fifth monday":          {"fifth monday of the month at 01:00", "", "2026-11-26 00:00", "11-30 01:00, 03-29 01:00, 05-31 01:00"},
		"short months":          {"31st of the month at 03:00", "", "2026-11-26 00:00", "12-31 03:00, 01-31 03:00, 03-31 03:00"},
		"last day":              {"last day of the month at 23:30", "", "2027-01-30 00:00", "01-31 23:30, 02-28 23:30, 03-31 23:30"},
		"leap day":              {"29 february at 00:00", "", "2026-11-26 00:00", "02-29 00:00, 02-29 00:00"},
		"two rules":             {"weekdays at 02:00; last day of the month at 02:00", "", "2026-11-30 00:00", "11-30 02:00, 12-01 02:00, 12-02 02:00"},
		"every other week":      {"FREQ=WEEKLY;INTERVAL=2;BYDAY=MO;BYHOUR=5", "", "2026-11-26 00:00", "11-30 05:00, 12-14 05:00, 12-28 05:00"},
		"in a zone":             {"daily at 02:00", "Europe/Oslo", "2026-11-26 00:00", "11-26 01:00, 11-27 01:00, 11-28 01:00"},
		"the clock goes ahead":  {"daily at 02:30", "Europe/Oslo", "2027-03-27 00:00", "03-27 01:30, 03-28 01:30, 03-29 00:30"},
		"the clock goes back":   {"daily at 02:30", "Europe/Oslo", "2026-10-24 00:00", "10-24 00:30, 10-25 00:30, 10-26 01:30"},
		"by half an hour ahead": {"daily at 02:15", "Australia/Lord_Howe", "2026-10-02 15:00", "10-02 15:45, 10-03 15:45, 10-04 15:15"},
		"by half an hour back":  {"daily at 01:45", "Australia/Lord_Howe", "2027-04-02 14:00", "04-02 14:45, 04-03 14:45, 04-04 15:15"},
	} {
		x, err := calendar.Parse(c.text, c.zone)
		require.NoError(t, err, name)
		var got []string
		at := utc(c.from)
		for range strings.Count(c.want, ",") + 1 {
			s, ok, err := x.After(at)
			require.NoError(t, err)
			require.True(t, ok)
			at = s.At
			got = append(got, at.UTC().Format("01-02 15:04"))
		}
		require.Equal(t, c.want, strings.Join(got, ", "), name)
	}
}

// What a change of the clock does is said where it happens, and only there.
func TestSkippedAndDoubledTimesAreSaid(t *testing.T) {
	for _, c := range []struct{ text, zone, at, note string }{
		{"daily at 02:30", "Europe/Oslo", "2027-03-28 01:30", "02:30 is skipped that day; it starts at 03:30"},
		{"daily at 02:30", "Europe/Oslo", "2026-10-25 00:30", "02:30 comes twice that day; the first counts"},
		{"daily at 02:15", "Australia/Lord_Howe", "2026-10-03 15:45", "02:15 is skipped that day; it starts at 02:45"},
		{"daily at 01:45", "Australia/Lord_Howe", "2027-04-03 14:45", "01:45 comes twice that day; the first counts"},
	} {
		x, err := calendar.Parse(c.text, c.zone)
		require.NoError(t, err)
		all, err := x.Between(utc(c.at).AddDate(0, 0, -3), utc(c.at).AddDate(0, 0, 3))
		require.NoError(t, err)
		for _, s := range all {
			if s.At.Equal(utc(c.at)) {
				require.Equal(t, c.note, s.Note)
			} else {
				require.Empty(t, s.Note, "%s", s.At)
			}
		}
		require.GreaterOrEqual(t, len(all), 6)
	}
}

func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"at 18:00, 6:00": "daily at 06:00 and 18:00", "every day at 00:15": "daily at 00:15", "mon-fri at 2:00": "weekdays at 02:00", "sun, sat at 12:00": "weekends at 12:00",
		"wednesday at 09:05": "wednesday at 09:05", "MON, Wed at 21:00": "mon and wed at 21:00", "last fri of the month at 22:00": "last friday of the month at 22:00",
		"1st, 15th of the month at 03:00": "1st and 15th of the month at 03:00", "22nd of the month at 03:00": "22nd of the month at 03:00", "24 dec at 08:00": "24 december at 08:00",
		"daily at 06:00, 06:30": "daily at 06:00 and 06:30", "weekdays at 02:00 ; sat at 04:00": "weekdays at 02:00; saturday at 04:00",
		"freq=weekly;byday=mo;byhour=5": "monday at 05:00", "FREQ=DAILY;INTERVAL=3;BYHOUR=4": "FREQ=DAILY;INTERVAL=3;BYHOUR=4",
	} {
		c, err := calendar.Parse(text, "")
		require.NoError(t, err, text)
		require.Equal(t, want, c.Words(), text)
		again, err := calendar.Parse(c.Words(), "")
		require.NoError(t, err)
		require.Equal(t, c.Words(), again.Words(), "what is written reads back")
	}
}

func TestCalendarsThatAreRefused(t *testing.T) {
	for text, says := range map[string]string{
		"": "no times", ";": "no times", "weekdays": "has no time", "weekdays at": "has no time", "weekdays at noon": "no time of day", "daily at 24:00": "no time of day", "daily at 6:5": "no time of day",
		"moonday at 02:00": "not known as days", "sixth friday of the month at 02:00": "not known as days", "32nd of the month at 02:00": "not known as days",
		"FREQ=HOURLY": "more often than daily", "FREQ=DAILY;COUNT=3": "begins or ends", "FREQ=DAILY;BYSECOND=3": "seconds", "FREQ=NEVER": "no recurrence rule",
		"FREQ=DAILY;BYHOUR=0,1,2,3,4,5,6,7,8,9,10,11;BYMINUTE=0,5,10,15,20,25,30,35,40": "at most 96",
	} {
		_, err := calendar.Parse(text, "")
		require.ErrorContains(t, err, says, text)
	}
	_, err := calendar.Parse("daily at 02:00", "Europe/Atlantis")
	require.ErrorContains(t, err, "no time zone")
	_, err = calendar.Parse("daily at 02:00", "Local")
	require.ErrorContains(t, err, "name a time zone")
}

// Whatever the zone and the time: a daily start comes once each local day, from any
// instant the next one follows, and what is listed does not hang on where one looks from.
func TestDailyComesOnceADay(t *testing.T) {
	zones := []string{"UTC", "Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Chatham", "Asia/Kathmandu"}
	rapid.Check(t, func(t *rapid.T) {
		zone := rapid.SampledFrom(zones).Draw(t, "zone")
		loc, err := time.LoadLocation(zone)
		require.NoError(t, err)
		hour, minute := rapid.IntRange(0, 23).Draw(t, "hour"), rapid.IntRange(0, 59).Draw(t, "minute")
		c, err := calendar.Parse("daily at "+time.Date(0, 1, 1, hour, minute, 0, 0, time.UTC).Format("15:04"), zone)
		require.NoError(t, err)
		from := time.Date(2026, 1, 1, 0, 0, 0, 0, loc).AddDate(0, 0, rapid.IntRange(0, 700).Draw(t, "day"))
		all, err := c.Between(from, from.AddDate(0, 0, 30))
		require.NoError(t, err)
		require.Len(t, all, 30)
		for i, s := range all {
			local := s.At.In(loc)
			require.Equal(t, from.AddDate(0, 0, i).Format("2006-01-02"), local.Format("2006-01-02"))
			if s.Note == "" {
				require.Equal(t, hour*60+minute, local.Hour()*60+local.Minute())
			}
		}
		at := rapid.IntRange(0, 28).Draw(t, "at")
		next, ok, err := c.After(all[at].At.Add(time.Duration(rapid.IntRange(0, 3600).Draw(t, "later")) * time.Second))
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, all[at+1].At.UTC(), next.At.UTC())
	})
}

func TestTheLastStartThatIsDue(t *testing.T) {
	c, err := calendar.Parse("sun at 03:00", "Europe/Oslo")
	require.NoError(t, err)
	for name, x := range map[string]struct{ after, until, want string }{
		"none yet":             {"2026-11-26 00:00", "2026-11-29 01:59", ""},
		"at its instant":       {"2026-11-26 00:00", "2026-11-29 02:00", "2026-11-29 02:00"},
		"done for it":          {"2026-11-29 02:00", "2026-11-29 09:00", ""},
		"the last of several":  {"2026-11-26 00:00", "2026-12-20 00:00", "2026-12-13 02:00"},
		"a clock that went by": {"2026-11-29 02:00", "2026-11-20 00:00", ""},
	} {
		at, ok, err := c.Last(utc(x.after), utc(x.until))
		require.NoError(t, err, name)
		require.Equal(t, x.want != "", ok, name)
		if ok {
			require.Equal(t, utc(x.want), at.UTC(), name)
		}
	}
}
