//go:build linux

package e2e

import (
	"bufio"
	"net/http"
	"strings"
	"testing"
	"time"

	"idletally/internal/wire"
)

// Whoever follows a run whose host does not call hears that it goes on, for as long as that takes, and then
// how it ended.
func TestRunThatWaits(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	p, err := c.DraftPlan(ctx, wire.Draft{Application: "ticketing", Hosts: []string{"slip-south"},
		Changes: "changes: [{paths: /srv/ticketing/logs/**, set: {files: 0600}}]"})
	must(t, err)
	approved(t, s, p)
	s.Agents["slip-south"].Stop()
	r, err := c.StartRun(ctx, p.ID)
	must(t, err)

	req, err := http.NewRequestWithContext(ctx, "GET", s.Address+"/api/v1/runs/"+r.ID+"/events", nil)
	must(t, err)
	req.Header.Set("Authorization", "Bearer "+c.Token)
	patient := *c.HTTP
	patient.Timeout = 0
	resp, err := patient.Do(req)
	must(t, err)
	defer resp.Body.Close()

	began := time.Now()
	lives := 0
	last := ""
	lines := bufio.NewScanner(resp.Body)

	for lines.Scan() {
		switch text := lines.Text(); {
		case strings.HasPrefix(text, ": "):
			lives++
			if lives == 3 { // more than half a minute later
				must(t, s.StartAgent("slip-south"))
			}
		case strings.HasPrefix(text, "data: "):
			last = text
		}
	}

	if lines.Err() != nil || lives < 3 || time.Since(began) < 30*time.Second ||
		!strings.Contains(last, `"state":"finished"`) {
		t.Errorf("after %s, and %d times that it goes on: %v\n%s", time.Since(began), lives, lines.Err(), last)
	}

	if r := ended(t, c, r.ID); r.State != "finished" || r.Hosts[0].Done < 100 {
		t.Errorf("%+v", r)
	}
}
