package window

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func at(t testing.TB, zone, s string) time.Time {
	t.Helper()
	l, err := time.LoadLocation(zone)
	require.NoError(t, err)
	moment, err := time.ParseInLocation("2006-01-02 15:04", s, l)
	require.NoError(t, err)
	return moment
}

func said(spans []Span) (all []string) {
	for _, s := range spans {
		all = append(all, s.From.Format("2006-01-02 15:04")+" - "+s.To.Format("2006-01-02 15:04"))
	}
	return all
}

func TestOpenings(t *testing.T) {
	const oslo = "Europe/Oslo"
	for name, c := range map[string]struct {
		w        Window
		from, to string
		want     []string
	}{
		"once":             {Window{Start: at(t, oslo, "2026-11-24 22:00"), Length: 4 * time.Hour}, "2026-11-20 00:00", "2026-12-01 00:00", []string{"2026-11-24 22:00 - 2026-11-25 02:00"}},
		"once, over":       {Window{Start: at(t, oslo, "2026-11-24 22:00"), Length: 4 * time.Hour}, "2026-11-25 03:00", "2026-12-01 00:00", nil},
		"begun before":     {Window{Start: at(t, oslo, "2026-11-24 22:00"), Length: 4 * time.Hour}, "2026-11-25 01:00", "2026-11-25 01:01", []string{"2026-11-24 22:00 - 2026-11-25 02:00"}},
		"weekly":           {Window{Start: at(t, oslo, "2026-11-03 22:00"), Length: 4 * time.Hour, Rule: "FREQ=WEEKLY;BYDAY=TU,TH"}, "2026-11-23 00:00", "2026-11-29 00:00", []string{"2026-11-24 22:00 - 2026-11-25 02:00", "2026-11-26 22:00 - 2026-11-27 02:00"}},
		"every second one": {Window{Start: at(t, oslo, "2026-11-03 22:00"), Length: time.Hour, Rule: "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU"}, "2026-11-10 00:00", "2026-12-02 00:00", []string{"2026-11-17 22:00 - 2026-11-17 23:00", "2026-12-01 22:00 - 2026-12-01 23:00"}},
		"excepted":         {Window{Start: at(t, oslo, "2026-11-03 22:00"), Length: time.Hour, Rule: "FREQ=WEEKLY", Except: []time.Time{at(t, oslo, "2026-11-10 22:00")}}, "2026-11-09 00:00", "2026-11-18 00:00", []string{"2026-11-17 22:00 - 2026-11-17 23:00"}},
		"counted":          {Window{Start: at(t, oslo, "2026-11-03 22:00"), Length: time.Hour, Rule: "FREQ=DAILY;COUNT=3"}, "2026-11-05 00:00", "2027-11-18 00:00", []string{"2026-11-05 22:00 - 2026-11-05 23:00"}},
		"without an end":   {Window{Start: at(t, oslo, "1995-01-01 22:00"), Length: time.Hour, Rule: "FREQ=DAILY"}, "2150-11-05 00:00", "2150-11-06 00:00", []string{"2150-11-05 22:00 - 2150-11-05 23:00"}},
		// The clocks go back at 03:00 on 25 October: six hours are over at 03:00 by
		// the clock, and go forward at 02:00 on 28 March: it is 05:00 then.
		"clocks go back":    {Window{Start: at(t, oslo, "2026-10-20 22:00"), Length: 6 * time.Hour, Rule: "FREQ=DAILY"}, "2026-10-24 21:00", "2026-10-24 23:00", []string{"2026-10-24 22:00 - 2026-10-25 03:00"}},
		"clocks go forward": {Window{Start: at(t, oslo, "2026-10-20 22:00"), Length: 6 * time.Hour, Rule: "FREQ=DAILY"}, "2027-03-27 21:00", "2027-03-27 23:00", []string{"2027-03-27 22:00 - 2027-03-28 05:00"}},
		"an hour that is not": {Window{Start: at(t, oslo, "2027-03-26 02:30"), Length: time.Hour, Rule: "FREQ=DAILY"}, "2027-03-28 00:00", "2027-03-28 12:00",
			[]string{"2027-03-28 03:30 - 2027-03-28 04:30"}},
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, c.w.Check())
			spans, err := c.w.Spans(at(t, oslo, c.from), at(t, oslo, c.to), 0)
			require.NoError(t, err)
			assert.Equal(t, c.want, said(spans))
		})
	}
}

func TestWhatIsNoWindow(t *testing.T) {
	start := at(t, "UTC", "2026-11-24 22:00")
	for name, c := range map[string]struct {
		w    Window
		says string
	}{
		"no start":        {Window{Length: time.Hour}, "no start"},
		"no length":       {Window{Start: start}, "over before it begins"},
		"a year long":     {Window{Start: start, Length: 400 * 24 * time.Hour}, "longer than a year"},
		"no rule":         {Window{Start: start, Length: time.Hour, Rule: "every tuesday"}, "FREQ=WEEKLY"},
		"each minute":     {Window{Start: start, Length: time.Hour, Rule: "FREQ=MINUTELY"}, "once an hour"},
		"never":           {Window{Start: start, Length: time.Hour, Rule: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"}, "never opens"},
		"never, by days":  {Window{Start: start, Length: time.Hour, Rule: "FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31"}, "never opens"},
		"long over":       {Window{Start: start, Length: time.Hour, Rule: "FREQ=DAILY;UNTIL=20200101T000000Z"}, "never opens"},
		"start in a rule": {Window{Start: start, Length: time.Hour, Rule: "DTSTART=20260101T000000Z;FREQ=DAILY"}, "window"},
	} {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			err := c.w.Check()
			require.ErrorIs(t, err, ErrWindow)
			assert.ErrorContains(t, err, c.says)
			assert.Less(t, time.Since(begun), 30*time.Second)
		})
	}
}

func TestPlace(t *testing.T) {
	night := Window{Name: "night", Start: at(t, "UTC", "2026-11-01 22:00"), Length: 4 * time.Hour, Rule: "FREQ=DAILY"}
	ball := Window{Name: "ball", Freeze: true, Start: at(t, "UTC", "2026-11-20 00:00"), Length: 48 * time.Hour}
	for name, c := range map[string]struct {
		windows  []Window
		from, to string
		want     Where
		by       string
	}{
		"nothing agreed":    {nil, "2026-11-10 23:00", "2026-11-10 23:10", Nowhere, ""},
		"only a freeze":     {[]Window{ball}, "2026-11-10 23:00", "2026-11-10 23:10", Nowhere, ""},
		"inside":            {[]Window{night, ball}, "2026-11-10 23:00", "2026-11-11 01:10", Inside, "night"},
		"outside":           {[]Window{night, ball}, "2026-11-10 12:00", "2026-11-10 12:00", Outside, ""},
		"it cannot be told": {[]Window{night}, "2026-11-10 02:00", "2026-11-11 02:00", Perhaps, "night"},
		"in a freeze":       {[]Window{night, ball}, "2026-11-20 23:00", "2026-11-20 23:10", Frozen, "ball"},
	} {
		t.Run(name, func(t *testing.T) {
			where, by, err := Place(c.windows, at(t, "UTC", c.from), at(t, "UTC", c.to))
			require.NoError(t, err)
			assert.Equal(t, c.want, where)
			assert.Equal(t, c.by, by)
		})
	}
}

// Leaping over what lies long before changes nothing.
func TestLeapingChangesNothing(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		w := Window{Start: time.Date(2025, 1, rapid.IntRange(1, 31).Draw(t, "day"), rapid.IntRange(0, 23).Draw(t, "hour"), 30, 0, 0, oslo), Length: time.Duration(rapid.IntRange(1, 60).Draw(t, "hours")) * time.Hour}
		w.Rule = rapid.SampledFrom([]string{"FREQ=DAILY", "FREQ=DAILY;INTERVAL=3", "FREQ=WEEKLY", "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,SA", "FREQ=WEEKLY;BYDAY=SU;WKST=SU"}).Draw(t, "rule")
		from := w.Start.Add(time.Duration(rapid.IntRange(0, 600*24).Draw(t, "later")) * time.Hour)
		to := from.Add(10 * 24 * time.Hour)
		short, err := w.Spans(from, to, 0)
		if err != nil {
			t.Fatal(err)
		}
		all, err := w.Spans(w.Start, to, 0)
		if err != nil {
			t.Fatal(err)
		}
		var want []Span
		for _, s := range all {
			if s.Overlaps(from, to) {
				want = append(want, s)
			}
		}
		assert.Equal(t, said(want), said(short))
	})
}

func TestCalendars(t *testing.T) {
	list := []Window{
		{Name: "core nights", Selector: "role=core", Start: at(t, "Europe/Oslo", "2026-11-03 22:00"), Length: 4 * time.Hour, Rule: "FREQ=WEEKLY;BYDAY=TU,TH", Except: []time.Time{at(t, "Europe/Oslo", "2026-12-24 22:00")}, Remark: "as agreed; see 7.2, and after"},
		{Name: "turn of the year", Freeze: true, Start: at(t, "UTC", "2026-12-20 00:00"), Length: 14 * 24 * time.Hour},
	}
	text, err := WriteCalendar(list, at(t, "UTC", "2026-11-24 00:00"))
	require.NoError(t, err)
	back, err := ReadCalendar(text, time.UTC)
	require.NoError(t, err)
	require.Len(t, back, 2)
	for i := range list {
		assert.Equal(t, list[i].Said(), back[i].Said())
		assert.Equal(t, list[i].Except, back[i].Except)
		back[i].Start, back[i].Except, list[i].Start, list[i].Except = time.Time{}, nil, time.Time{}, nil
		assert.Equal(t, list[i], back[i])
	}
	none, err := WriteCalendar(nil, time.Now())
	require.NoError(t, err)
	back, err = ReadCalendar(none, time.UTC)
	require.NoError(t, err)
	assert.Empty(t, back)
	for _, bad := range []string{"", "nothing of the kind", "BEGIN:VCALENDAR\r\n", strings.Repeat("x", MaxCalendar+1),
		"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:1\r\nSUMMARY:x\r\nDTSTART:20261124T220000Z\r\nDTEND:20261124T210000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"} {
		_, err := ReadCalendar(bad, time.UTC)
		assert.ErrorIs(t, err, ErrWindow, "%.40q", bad)
	}
}

func TestSaid(t *testing.T) {
	w := Window{Start: at(t, "Europe/Oslo", "2026-11-03 22:00"), Length: 4 * time.Hour, Rule: "FREQ=WEEKLY;BYDAY=TU,TH"}
	assert.Equal(t, "weekly on Tue, Thu, 22:00 to 02:00, Europe/Oslo, since 2026-11-03", w.Said())
	w.Rule = ""
	assert.Equal(t, "2026-11-03 22:00 to 2026-11-04 02:00, Europe/Oslo", w.Said())
}

// FuzzCalendar reads whatever may come.
func FuzzCalendar(f *testing.F) {
	text, err := WriteCalendar([]Window{{Name: "x", Start: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), Length: time.Hour, Rule: "FREQ=DAILY"}}, time.Unix(0, 0))
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ReadCalendar(text, time.UTC)
		if err == nil {
			for _, w := range list {
				if _, err := w.Spans(w.Start, w.Start.Add(time.Hour), 10); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}
