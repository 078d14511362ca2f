//go:build linux

package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"idletally/demo"
	"idletally/internal/client"
)

// document is the one that the service gives of its API to who is signed in.
func document(t *testing.T, s *demo.Stage, c *client.Client) []byte {
	t.Helper()
	return get(t, s, c, "/api/openapi.json")
}

// get asks for anything, as somebody.
func get(t *testing.T, s *demo.Stage, c *client.Client, path string) []byte {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+path, nil)
	must(t, err)
	req.Header.Set("Authorization", "Bearer "+c.Token)
	resp, err := c.HTTP.Do(req)
	must(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	must(t, err)
	return b
}

// askedOf returns what stands after the question mark of addresses, by their templates. Some give files, and have no
// schema.
func askedOf(ids map[string]string) map[string]string {
	return map[string]string{
		"/access":                            "?host=slip-north&account=www-tickets&path=/srv/ticketing/site",
		"/access/below":                      "?host=slip-north&account=purser&path=/srv&operation=write&weigh=true",
		"/access/holders":                    "?host=slip-north&path=/srv/ticketing/site&operation=write",
		"/access/proposals":                  "?host=slip-north&account=purser&path=/srv/ticketing&operation=write",
		"/access/restriction":                "?host=slip-north&only=purser&path=/srv/ticketing&operation=write",
		"/access/matrix":                     "?host=slip-north&path=/srv/ticketing/site",
		"/accounts":                          "?host=slip-north",
		"/accounts/{name}":                   "?host=slip-north",
		"/baselines/{name}/{number}/explain": "?host=slip-north&path=/srv/ticketing/site",
		"/calculate/entries":                 "?entries=" + url.QueryEscape("u::rwx,g::r-x,o::---,u:purser:rwx,m::rwx"),
		"/calculate/mode":                    "?mode=2750",
		"/calculate/new":                     "?umask=0027",
		"/drift":                             "?application=ticketing",
		"/drift/causes":                      "?application=ticketing",
		"/drift/equal":                       "?application=ticketing",
		"/drift/report":                      "?application=ticketing&format=csv",
		"/drift/trend":                       "?application=ticketing",
		"/path":                              "?host=slip-north&path=/srv/ticketing/site",
		"/paths":                             "?host=slip-north&path=/srv/ticketing&account=www-tickets",
		"/paths/times":                       "?host=slip-north&path=/srv/ticketing/conf",
		"/paths/new":                         "?host=slip-north&path=/srv/ticketing/site&account=www-tickets",
		"/plans/{id}/script":                 "?host=slip-north",
		"/plans/{id}/steps":                  "?host=slip-north",
		"/runs/{id}/order":                   "?host=slip-north",
		"/runs/{id}/originals":               "?host=slip-north",
		"/search":                            "?q=ticketing",
		"/snapshots/{id}/changes":            "?from=" + ids["/snapshots/{id}"],
		"/waivers":                           "?application=ticketing&all=true",
	}
}

// What the service answers is what its document (OpenAPI 3.1) says, by a validator that knows nothing of
// ours: each question that can be asked is asked, on real data, and so are some that cannot.
func answersFit(t *testing.T, s *demo.Stage, token string, ids map[string]string) {
	t.Helper()
	asked := askedOf(ids)
	web := trusting(t, s)
	get := func(path string) (int, string, []byte) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Address+path, nil)
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := web.Do(req)
		must(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
		must(t, err)
		return resp.StatusCode, resp.Header.Get("Content-Type"), b
	}

	_, _, text := get("/api/openapi.json")
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	must(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	must(t, compiler.AddResource("mem:document", doc))
	var paths struct {
		Paths map[string]map[string]struct {
			Responses map[string]struct {
				Content map[string]json.RawMessage `json:"content"`
			} `json:"responses"`
		} `json:"paths"`
	}

	must(t, json.Unmarshal(text, &paths))
	escape := strings.NewReplacer("~", "~0", "/", "~1")
	fits := func(template, status, kind string, b []byte) error {
		at := "mem:document#/paths/" + url.PathEscape(escape.Replace(template)) + "/get/responses/" + status +
			"/content/" + url.PathEscape(escape.Replace(kind)) + "/schema"
		schema, err := compiler.Compile(at)
		if err != nil {
			return err
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		if err != nil {
			return err
		}
		return schema.Validate(value)
	}

	streams := []string{"/happenings"} // which go on
	brace := regexp.MustCompile(`\{([^}]+)\}`)
	answered, files := 0, 0

	for template, methods := range paths.Paths {
		op, ok := methods["get"]
		short := strings.TrimPrefix(template, "/api/v1")
		if !ok || slices.Contains(streams, short) {
			continue
		}

		at := brace.ReplaceAllStringFunc(template, func(name string) string {
			switch {
			case name == "{number}":
				return "1"
			case strings.HasPrefix(short, "/accounts"):
				return "www-tickets"
			case strings.HasPrefix(short, "/hosts"):
				return "slip-north"
			case strings.HasPrefix(short, "/people"):
				return "lookout"
			case name == "{name}":
				return "ticketing"
			}

			return ids["/"+strings.Split(short, "/")[1]+"/{id}"]
		})

		status, kind, b := get(at + asked[short])
		kind, _, _ = strings.Cut(kind, ";")
		answered++

		switch {
		case short == "/runs/{id}/order": // the run has ended
			if err := fits(template, "404", kind, b); status != http.StatusNotFound || err != nil {
				t.Errorf("GET %s: %d, and the problem is not as the document says: %v", short, status, err)
			}
		case status != http.StatusOK:
			t.Errorf("GET %s%s: %d %s", at, asked[short], status, b)
		case len(op.Responses["200"].Content) == 0 || kind != "application/json":
			files++
		default:
			if err := fits(template, "200", kind, b); err != nil {
				t.Errorf("GET %s%s answers otherwise than the document says: %v\n%.400s", at, asked[short], err, b)
			}
		}
	}

	if answered < 50 || files > 8 {
		t.Errorf("%d questions were asked, %d answers were files", answered, files)
	}
}
