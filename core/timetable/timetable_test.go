package timetable

import (
	"math/rand/v2"
	"testing"
	"time"
)

// TestWhenSomethingIsDoneNext checks plans against days by hand.
func TestWhenSomethingIsDoneNext(t *testing.T) {
	at := func(text string) time.Time {
		when, err := time.Parse("2006-01-02 15:04", text)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	for _, one := range []struct {
		plan  Plan
		last  string
		share float64
		want  string
	}{
		{Plan{Every: time.Hour}, "2026-05-01 10:00", 0, "2026-05-01 11:00"},
		{Plan{Every: time.Hour}, "2026-05-01 10:00", 0.999, "2026-05-01 11:05"},
		{Plan{Every: 24 * time.Hour}, "2026-05-01 10:00", 0.5, "2026-05-02 10:15"},
		{Plan{time.Hour, 22 * 60, 5 * 60}, "2026-05-01 10:00", 0, "2026-05-01 22:00"},
		{Plan{time.Hour, 22 * 60, 5 * 60}, "2026-05-01 22:30", 0, "2026-05-01 23:30"},
		{Plan{time.Hour, 22 * 60, 5 * 60}, "2026-05-02 03:59", 0.999, "2026-05-02 04:59"},
		{Plan{time.Hour, 22 * 60, 5 * 60}, "2026-05-02 04:30", 0, "2026-05-02 22:00"},
		{Plan{24 * time.Hour, 60, 120}, "2026-05-02 01:30", 0, "2026-05-03 01:00"},
		{Plan{24 * time.Hour, 60, 120}, "2026-05-02 01:30", 0.5, "2026-05-03 01:15"},
		{Plan{24 * time.Hour, 60, 120}, "2026-05-02 03:00", 0, "2026-05-03 01:00"}, // by hand, in the morning
		{Plan{24 * time.Hour, 60, 120}, "2026-05-02 14:00", 0, "2026-05-04 01:00"},
		{Plan{24 * time.Hour, 23 * 60, 60}, "2026-05-02 00:30", 0.999, "2026-05-02 23:29"},
		{Plan{7 * 24 * time.Hour, 60, 120}, "2026-05-02 09:00", 0, "2026-05-09 01:00"},
		{Plan{7 * 24 * time.Hour, 0, 0}, "2026-05-02 03:00", 0, "2026-05-09 03:00"},
	} {
		got := one.plan.Next(at(one.last), one.share).Truncate(time.Minute)
		if !got.Equal(at(one.want)) {
			t.Errorf("%+v after %s: %s, want %s", one.plan, one.last, got, one.want)
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		p := Plan{Every: Least + time.Duration(r.Int64N(int64(Most-Least)))}
		if r.IntN(2) == 0 {
			p.Begins, p.Ends = r.IntN(day), r.IntN(day)
		}
		last := at("2026-05-01 10:00").Add(time.Duration(r.IntN(day*60)) * time.Second)
		next := p.Next(last, r.Float64())
		if !p.Within(next) || next.Before(last.Add(p.Every/2)) || next.After(last.Add(p.Every+25*time.Hour)) {
			t.Fatalf("%+v after %s: %s", p, last, next)
		}
	}
}

// TestWhenSomethingIsDoneSoon checks when what is due may be done.
func TestWhenSomethingIsDoneSoon(t *testing.T) {
	at := time.Date(2026, 5, 2, 0, 30, 0, 0, time.UTC)
	for _, one := range []struct {
		begins, ends int
		want         string
	}{{0, 0, "02 00:30"}, {0, 60, "02 00:30"}, {23 * 60, 60, "02 00:30"}, {60, 120, "02 01:00"}, {0, 30, "03 00:00"}} {
		if got := (Plan{time.Hour, one.begins, one.ends}).Soon(at).Format("02 15:04"); got != one.want {
			t.Errorf("%+v: %s", one, got)
		}
	}
}

// TestWindows reads and writes them.
func TestWindows(t *testing.T) {
	for _, text := range []string{"22:00-05:00", "00:30-23:59", ""} {
		begins, ends, err := ParseWindow(text)
		if got := (Plan{Begins: begins, Ends: ends}).Window(); err != nil || got != text {
			t.Errorf("%q becomes %q, %v", text, got, err)
		}
	}
	for _, text := range []string{"22:00", "25:00-05:00", "22:00-22:00", "a-b", "-"} {
		if _, _, err := ParseWindow(text); err == nil {
			t.Errorf("%q is a window", text)
		}
	}
	for _, p := range []Plan{{Every: time.Minute}, {Every: 8 * 24 * time.Hour}, {Every: time.Hour, Begins: day}} {
		if p.Check() == nil {
			t.Errorf("%+v is fine", p)
		}
	}
}
