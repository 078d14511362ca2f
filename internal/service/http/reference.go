package http

import (
	"crypto/sha256"
	"encoding/base64"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// tags are what operations are of, in the order of work, with the first parts of their paths.
var tags = []struct {
	name  string
	paths []string
}{
	{"Signing in", []string{"sign-in", "sign-out", "me", "version", "tokens"}},
	{"Overview and search", []string{"overview", "search", "happenings"}},
	{"Looking and access", []string{"path", "paths", "access", "accounts", "calculate"}},
	{"Applications and baselines", []string{"applications", "baselines"}},
	{"Snapshots and schedules", []string{"snapshots", "schedules"}},
	{"Drift and waivers", []string{"drift", "reports", "waivers"}},
	{"Plans and runs", []string{"plans", "runs"}},
	{"Hosts", []string{"hosts", "keys"}},
	{"People and policy", []string{"people", "policy"}},
	{"Notices", []string{"hooks"}},
	{"History and storage", []string{"history", "storage"}},
}

// tagOfPath gives the tag of an operation's path.
func tagOfPath(path string) []string {
	first, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	for _, t := range tags {
		if slices.Contains(t.paths, first) {
			return []string{t.name}
		}
	}
	return nil
}

// referenceStyle is the page's, which its policy lets through by its hash.
const referenceStyle = `body{font:15px/1.45 system-ui,sans-serif;max-width:70rem;margin:2rem auto;padding:0 1rem}code{font-size:.95em}h3{margin:1.6rem 0 .2rem}table{border-collapse:collapse}td:first-child{white-space:nowrap}td{padding:.1rem .8rem .1rem 0;vertical-align:top}`

var referencePolicy = func() string {
	sum := sha256.Sum256([]byte(referenceStyle))
	return "default-src 'none'; frame-ancestors 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

// reference shows the document of the API as a page.
var reference = template.Must(template.New("reference").Funcs(template.FuncMap{
	"body": func(b *huma.RequestBody) (types []string) {
		for t, m := range b.Content {
			if m.Schema != nil && m.Schema.Ref != "" {
				t += ": " + m.Schema.Ref[strings.LastIndex(m.Schema.Ref, "/")+1:]
			}
			types = append(types, t)
		}
		slices.Sort(types)
		return types
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>API of Idle Tally</title>
<style>{{.Style}}</style>
</head><body><h1>API of Idle Tally</h1><p>{{.Description}}</p>
<p>The same for programs: <a href="/api/openapi.json">OpenAPI 3.1</a>. What failures mean: <a href="/api/problems">problems</a>.</p>
<ul>{{range .Groups}}<li><a href="#{{.Name}}">{{.Name}}</a></li>{{end}}</ul>
{{range .Groups}}<h2 id="{{.Name}}">{{.Name}}</h2>
{{range .Operations}}<h3 id="{{.OperationID}}"><code>{{.Method}} {{.Path}}</code></h3>
<p>{{.Summary}}. <small>{{with .Metadata.role}}{{if eq . "any"}}For anybody signed in.{{else}}Role: {{.}}.{{end}}{{else}}For anybody.{{end}}</small></p>
{{if .Parameters}}<table>{{range .Parameters}}<tr><td><code>{{.Name}}</code></td><td>{{.In}}{{if .Required}}, required{{end}}</td><td>{{.Description}}</td></tr>{{end}}</table>{{end}}
{{with .RequestBody}}<p>Body: {{range body .}}<code>{{.}}</code> {{end}}</p>{{end}}
<p>Answers: {{range $status, $r := .Responses}}<code>{{$status}}</code> {{$r.Description}} {{end}}</p>
{{end}}{{end}}</body></html>
`))

// group is what a page shows under one tag.
type group struct {
	Name       string
	Operations []*huma.Operation
}

// showReference serves the page.
func (s *Server) showReference(w http.ResponseWriter, _ *http.Request) {
	doc := s.api.OpenAPI()
	groups := make([]group, len(tags))
	for i, t := range tags {
		groups[i].Name = t.name
	}
	for _, item := range doc.Paths {
		for _, o := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if o == nil {
				continue
			}
			for i := range groups {
				if slices.Contains(o.Tags, groups[i].Name) {
					groups[i].Operations = append(groups[i].Operations, o)
				}
			}
		}
	}
	for _, g := range groups {
		slices.SortFunc(g.Operations, func(a, b *huma.Operation) int {
			return strings.Compare(a.Path+" "+a.Method, b.Path+" "+b.Method)
		})
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", referencePolicy)
	_ = reference.Execute(w, map[string]any{"Style": template.CSS(referenceStyle), "Description": doc.Info.Description, "Groups": groups}) // nobody is left to tell
}
