package wire

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"
)

func TestWho(t *testing.T) {
	for _, c := range []struct {
		act  Act
		want string
	}{
		{Act{}, "a process that was gone"},
		{Act{Command: "chmod", Account: "clerk-east"}, "clerk-east, chmod"},
		{Act{Command: "chmod", Account: "root", Login: "clerk-east"}, "root (logged in as clerk-east), chmod"},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got := c.act.Who(); got != c.want {
				t.Errorf("%+v: %q, want %q", c.act, got, c.want)
			}
		})
	}
}

// Two can work together where the newer one's oldest protocol is one that the older one speaks; the one
// behind is named.
func TestSpeaks(t *testing.T) {
	for _, c := range []struct {
		protocol, oldest int
		says             string
	}{
		{Protocol, OldestProtocol, ""},
		{Protocol + 5, Protocol, ""},
		{OldestProtocol, 0, ""},
		{Protocol + 5, Protocol + 1, "bring this program up to date"},
		{OldestProtocol - 1, 0, "bring the agent up to date"},
	} {
		t.Run(c.says, func(t *testing.T) {
			err := Speaks("the agent", "7", c.protocol, c.oldest)
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%d to %d: %v", c.oldest, c.protocol, err)
			}
		})
	}
}

// Whatever an agent says, it was not in the future.
func TestAgo(t *testing.T) {
	for _, c := range []struct {
		seconds int64
		want    time.Duration
	}{
		{-1, 0},
		{math.MinInt64, 0},
		{90, 90 * time.Second},
		{math.MaxInt64, 36500 * 24 * time.Hour},
		{1 << 34, 36500 * 24 * time.Hour},
	} {
		t.Run(fmt.Sprint(c.seconds), func(t *testing.T) {
			if got := Ago(c.seconds); got != c.want {
				t.Errorf("%d seconds: %s", c.seconds, got)
			}
		})
	}
}
