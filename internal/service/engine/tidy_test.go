package engine

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"idletally/internal/service/store"
)

func TestRetention(t *testing.T) {
	now := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	var snaps []store.PlaceTime
	for age := 400; age >= 0; age-- { // three a day
		for h := range 3 {
			snaps = append(snaps, store.PlaceTime{
				ID:    fmt.Sprintf("%d-%d", age, h),
				Taken: now.AddDate(0, 0, -age).Add(time.Duration(h-3) * time.Hour),
			})
		}
	}

	kept := func(k Retention) (days map[int]int) {
		gone := k.drop(snaps, now)
		days = map[int]int{}
		for _, s := range snaps {
			if !slices.Contains(gone, s.ID) {
				days[int(now.Sub(s.Taken)/(24*time.Hour))]++
			}
		}

		return days
	}

	days := kept(Retention{All: 3, Daily: 30, Weekly: 365})
	total := 0
	for age, n := range days {
		total += n
		switch {
		case age < 3 && n != 3, age >= 3 && age < 30 && n != 1, age >= 30 && n > 1, age >= 365:
			t.Errorf("%d days old: %d are kept", age, n)
		}
	}

	if weeks := total - 3*3 - 27; weeks < 46 || weeks > 50 {
		t.Errorf("%d weeks are kept", weeks)
	}

	if days := kept(Retention{}); len(days) != 1 || days[0] != 1 {
		t.Errorf("without anything to keep: %v, want the newest", days)
	}

	if gone := (Retention{}).drop(nil, now); len(gone) != 0 {
		t.Errorf("%v of nothing", gone)
	}
}
