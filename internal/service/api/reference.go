package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
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
	{"People and policy", []string{"people", "policy", "requests"}},
	{"Roster", []string{"roster", "signing-keys"}},
	{"Notices", []string{"hooks"}},
	{"History and storage", []string{"history", "storage"}},
}

// tagOfPath returns the tag of an operation's path.
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
	return "default-src 'none'; frame-ancestors 'none'; style-src 'sha256-" +
		base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

// reference shows the document of the API as a page.
var reference = template.Must(template.New("reference").Funcs(template.FuncMap{
	"content": func(content map[string]*huma.MediaType) (out []form) {
		for t, m := range content {
			f := form{Type: t}
			if m.Schema != nil {
				f.Schema = m.Schema.Ref
			}
			out = append(out, f)
		}
		slices.SortFunc(out, func(a, b form) int { return strings.Compare(a.Type, b.Type) })
		return out
	},
	"named": named,
	"words": wordsOf,
	"json":  func(v any) (string, error) { b, err := json.Marshal(v); return string(b), err },
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>API of Idle Tally</title>
<style>{{.Style}}</style>
</head><body><h1>API of Idle Tally</h1><p>{{.Description}}</p>
<p>The same for programs: <a href="/api/openapi.json">OpenAPI 3.1</a>. What failures mean: <a href="/api/problems">problems</a>.</p>
<ul>{{range .Groups}}<li><a href="#{{.Name}}">{{.Name}}</a></li>{{end}}<li><a href="#bodies">Bodies</a></li></ul>
{{range .Groups}}<h2 id="{{.Name}}">{{.Name}}</h2>
{{range .Operations}}<h3 id="{{.OperationID}}"><code>{{.Method}} {{.Path}}</code></h3>
<p>{{.Summary}}. <small>{{with .Metadata.role}}{{if eq . "any"}}For anybody signed in.{{else}}Role: {{.}}.{{end}}{{else}}For anybody.{{end}}</small></p>
{{if .Parameters}}<table>{{range .Parameters}}<tr><td><code>{{.Name}}</code></td><td>{{.In}}{{if .Required}}, required{{end}}</td><td>{{.Description}}</td></tr>{{end}}</table>{{end}}
{{with .RequestBody}}<p>Body: {{range content .Content}}{{template "form" .}}{{end}}</p>{{end}}
<p>Answers: {{range $status, $r := .Responses}}<code>{{$status}}</code> {{$r.Description}} {{range content $r.Content}}{{if ne .Type "application/problem+json"}}{{template "form" .}}{{end}}{{end}}{{end}}</p>
{{end}}{{end}}
<h2 id="bodies">Bodies</h2>
<p>Answers may have more in a later version: pass over what you do not know. What a call's body has besides is refused.</p>
{{range $name, $s := .Bodies}}{{if $s.Properties}}<h3 id="body-{{$name}}"><code>{{$name}}</code></h3>
<table>{{range $p, $x := $s.Properties}}<tr><td><code>{{$p}}</code></td><td>{{template "type" $x}}{{if index $.Needed $name $p}}, required{{end}}</td><td>{{$x.Description}}{{with words $x}}. {{.}}{{end}}{{range $x.Examples}}. Such as <code>{{json .}}</code>{{end}}</td></tr>{{end}}</table>
{{end}}{{end}}</body></html>
{{define "form"}}<code>{{.Type}}</code>{{with .Schema}}: <a href="#body-{{named .}}"><code>{{named .}}</code></a>{{end}} {{end}}
{{define "type"}}{{if .Ref}}<a href="#body-{{named .Ref}}">{{named .Ref}}</a>{{else if .Items}}list of {{template "type" .Items}}{{else}}{{.Type}}{{with .Format}} ({{.}}){{end}}{{end}}{{end}}
`))

// form is how a body is written: by a schema, where one holds for it.
type form struct{ Type, Schema string }

// wordsOf returns which words something may be.
func wordsOf(s *huma.Schema) string {
	if len(s.Enum) == 0 {
		return ""
	}
	var out []string
	for _, w := range s.Enum {
		out = append(out, fmt.Sprint(w))
	}
	return "One of: " + strings.Join(out, ", ")
}

// group is what a page shows under one tag.
type group struct {
	Name       string
	Operations []*huma.Operation
}

// showReference serves the page, which is made when somebody first asks for it.
func (s *API) showReference(w http.ResponseWriter, r *http.Request) {
	page, err := s.reference()
	if err != nil {
		s.Plain(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", referencePolicy)
	_, _ = w.Write(page) // nobody is left to tell
}

// referenceOf makes the page of a document.
func referenceOf(doc *huma.OpenAPI) ([]byte, error) {
	groups := make([]group, len(tags))
	for i, t := range tags {
		groups[i].Name = t.name
	}

	for _, o := range each(doc) {
		for i := range groups {
			if slices.Contains(o.Tags, groups[i].Name) {
				groups[i].Operations = append(groups[i].Operations, o)
			}
		}
	}

	needed := map[string]map[string]bool{}
	for name, s := range doc.Components.Schemas.Map() {
		needed[name] = map[string]bool{}
		for _, p := range s.Required {
			needed[name][p] = true
		}
	}

	for _, g := range groups {
		slices.SortFunc(g.Operations, func(a, b *huma.Operation) int {
			return strings.Compare(a.Path+" "+a.Method, b.Path+" "+b.Method)
		})
	}

	var page bytes.Buffer
	err := reference.Execute(&page, map[string]any{
		"Style":       template.CSS(referenceStyle),
		"Description": doc.Info.Description,
		"Groups":      groups,
		"Bodies":      doc.Components.Schemas.Map(),
		"Needed":      needed,
	})

	return page.Bytes(), err
}
