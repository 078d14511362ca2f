//go:build linux

package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"idletally/internal/loopback"
	"idletally/internal/tied"
	"idletally/internal/wire"
)

// A real Prometheus takes what we ship: it scrapes the service with a viewer's token, evaluates each alert,
// and has an answer for each panel of the dashboard.
func TestPrometheus(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	dir := folder(t)
	made, err := as(t, s, "lookout").AddToken(t.Context(), wire.NewToken{
		Name:  "monitoring",
		Roles: []string{"viewer"},
		Days:  1,
	})
	must(t, err)
	must(t, os.WriteFile(filepath.Join(dir, "token"), []byte(made.Secret), 0o600))

	for _, name := range []string{"prometheus.yaml", "alerts.yaml"} {
		b, err := os.ReadFile("../packaging/monitoring/" + name)
		must(t, err)
		text := strings.NewReplacer("TOKEN_FILE", filepath.Join(dir, "token"), "AUTHORITY_FILE", s.Authority(),
			"TARGET", strings.TrimPrefix(s.Address, "https://"),
			"scrape_interval: 30s", "scrape_interval: 1s").Replace(string(b))
		must(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}

	port, err := loopback.FreePort()
	must(t, err)
	address := fmt.Sprintf("127.0.0.1:%d", port)
	server := exec.Command("prometheus", "--config.file="+filepath.Join(dir, "prometheus.yaml"),
		"--storage.tsdb.path="+filepath.Join(dir, "series"), "--web.listen-address="+address)
	log := &logBook{}
	server.Stderr = log
	process, err := tied.Start(server)
	must(t, err)
	t.Cleanup(func() {
		_ = server.Process.Kill() // it has nothing to keep
		_ = process.Wait()
		if t.Failed() {
			t.Logf("%s", log.tail())
		}
	})

	ask := func(path string, query url.Values, into any) error {
		resp, err := http.Get("http://" + address + "/api/v1/" + path + "?" + query.Encode())
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if err := json.NewDecoder(resp.Body).Decode(into); err != nil || resp.StatusCode != 200 {
			return fmt.Errorf("%s: %d, %w", path, resp.StatusCode, err)
		}

		return nil
	}

	count := func(expr string) (int, error) {
		var out struct {
			Data struct {
				Result []json.RawMessage `json:"result"`
			} `json:"data"`
		}
		err := ask("query", url.Values{"query": {expr}}, &out)
		return len(out.Data.Result), err
	}

	eventually(t, "two rounds of figures", func() bool {
		n, err := count(`count_over_time(idletally_figures_complete[5m]) > 2`)
		return err == nil && n > 0
	})

	var board struct {
		Panels []struct {
			Title   string `json:"title"`
			Targets []struct {
				Expr string `json:"expr"`
			} `json:"targets"`
		} `json:"panels"`
	}

	b, err := os.ReadFile("../packaging/monitoring/dashboard.json")
	must(t, err)
	must(t, json.Unmarshal(b, &board))
	asked := 0

	for _, p := range board.Panels {
		for _, q := range p.Targets {
			asked++
			if n, err := count(strings.ReplaceAll(q.Expr, "$application", ".*")); err != nil || n == 0 {
				t.Errorf("%s: %q has %d answers, %v", p.Title, q.Expr, n, err)
			}
		}
	}

	if asked < 20 {
		t.Errorf("%d questions", asked)
	}

	// What alerts look for by name has to be there, whatever it counts.
	b, err = os.ReadFile("../packaging/monitoring/alerts.yaml")
	must(t, err)
	for _, m := range regexp.MustCompile(
		`(idletally_(?:hosts|plans|runs|application_findings|database_connections)\{)state="([^"]*)"|(idletally_application_findings\{)severity="([^"]*)"`).FindAllStringSubmatch(string(b), -1) {
		if n, err := count(m[0] + "}"); err != nil || n == 0 {
			t.Errorf("%s} is not there: %v", m[0], err)
		}
	}

	eventually(t, "every alert to be evaluated", func() bool {
		var out struct {
			Data struct {
				Groups []struct {
					Rules []struct{ Name, Health, LastError string }
				}
			}
		}

		if err := ask("rules", nil, &out); err != nil || len(out.Data.Groups) != 1 {
			return false
		}

		for _, r := range out.Data.Groups[0].Rules {
			if r.Health == "err" {
				t.Fatalf("%s: %s", r.Name, r.LastError)
			}
			if r.Health != "ok" {
				return false
			}
		}

		return len(out.Data.Groups[0].Rules) > 20
	})
}
