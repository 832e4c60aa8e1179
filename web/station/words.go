package station

import (
	"fmt"
	"time"
)

// Weight writes bytes for people: "84 KB", "3.1 MB" (1 KB is 1,000 bytes, as mail programs count).
func Weight(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 999_500:
		return fmt.Sprintf("%.0f KB", float64(n)/1e3)
	case n < 999_500_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.2f GB", float64(n)/1e9)
}

// When writes a time as short as it can be told from now.
func When(t time.Time) string {
	t, now := t.Local(), time.Now()
	day := func(t time.Time) time.Time { y, m, d := t.Date(); return time.Date(y, m, d, 0, 0, 0, 0, t.Location()) }
	switch day(now).Sub(day(t)).Round(24*time.Hour) / (24 * time.Hour) {
	case 0:
		return "today " + t.Format("15:04")
	case 1:
		return "yesterday " + t.Format("15:04")
	}
	if t.Year() == now.Year() {
		return t.Format("2 Jan 15:04")
	}
	return t.Format("2 Jan 2006")
}

// Moment writes a time to the second, as the record has it.
func Moment(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04:05") }

// Day writes a day and an hour.
func Day(t time.Time) string { return t.Local().Format("2 Jan 15:04") }
