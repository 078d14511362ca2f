package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"idletally/internal/wire"
)

//go:embed page.html
var pageText string

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"grid": grid,
	"date": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") },
	"shape": func(word string) string {
		return map[string]string{"opens": "▲", "closes": "▼", "both": "◆", "neither": "·"}[word]
	},
	"sentence": func(s string) string { return strings.ToUpper(s[:1]) + s[1:] + "." },
	"where":    func(g wire.Group) string { return wire.Place(g.Count, g.Folder, g.Example) },
}).Parse(pageText))

// grid draws a mode as the tally grid, with rings around cells that differ from another mode.
func grid(octal, other string) template.HTML {
	on, ref := cells(octal), cells(other)
	if on == nil {
		return ""
	}

	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="grid" width="30" height="38" viewBox="0 0 38 48" role="img" aria-label="mode %s">`,
		template.HTMLEscapeString(octal))
	for i, set := range on {
		x := 4 + i%3*12
		y := 1.5 + float64(i/3)*12
		fill := "none"
		if set {
			fill = "currentColor"
		}

		if i < 3 {
			fmt.Fprintf(&b, `<path d="M%d 4h7l-3.5 4z" fill="%s" stroke="currentColor" stroke-width=".7"/>`, x, fill)
		} else {
			fmt.Fprintf(&b,
				`<rect x="%d" y="%g" width="7" height="7" rx="1" fill="%s" stroke="currentColor" stroke-width=".8"/>`,
				x, y, fill)
		}

		if ref != nil && ref[i] != set {
			fmt.Fprintf(&b,
				`<rect x="%g" y="%g" width="11" height="11" rx="3" fill="none" stroke="#7d4300" stroke-width="1.5"/>`,
				float64(x)-2, y-2)
		}
	}

	b.WriteString("</svg>")
	return template.HTML(b.String()) // its parts are ours
}

type pageHost struct {
	wire.HostVerdict
	Report             *wire.Report // nil: there is none
	Counting, Accepted []wire.Group
}

func page(d Data) ([]byte, error) {
	var hosts []pageHost
	for _, v := range d.Hosts {
		h := pageHost{HostVerdict: v, Report: d.of(v.Host)}
		for _, g := range d.Groups {
			switch {
			case g.Host != v.Host:
			case g.Waiver != nil:
				h.Accepted = append(h.Accepted, g)
			default:
				h.Counting = append(h.Counting, g)
			}
		}
		hosts = append(hosts, h)
	}

	var b bytes.Buffer
	err := pageTemplate.Execute(&b, map[string]any{"Data": d, "Hosts": hosts})
	return b.Bytes(), err
}
