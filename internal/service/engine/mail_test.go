package engine

import (
	"bufio"
	"fmt"
	"log/slog"
	"mime"
	"net"
	netmail "net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// post is a small server that takes mail (RFC 5321).
type post struct {
	net.Listener
	mu     sync.Mutex
	got    []string // letters, with who they are to before each
	refuse bool
}

func newPost(t *testing.T) *post {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	p := &post{Listener: l}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.take(c)
		}
	}()
	return p
}

func (p *post) take(c net.Conn) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	in := bufio.NewScanner(c)
	say := func(text string) { fmt.Fprintf(c, "%s\r\n", text) }
	say("220 post")
	to := ""

	for in.Scan() {
		switch verb := strings.ToUpper(strings.Fields(in.Text() + " x")[0]); verb {
		case "EHLO", "HELO":
			say("250 post")
		case "RCPT":
			to = in.Text()
			say("250 fine")
		case "DATA":
			say("354 go on")
			var b strings.Builder
			b.WriteString(to + "\n")
			for in.Scan() && in.Text() != "." {
				b.WriteString(strings.TrimPrefix(in.Text(), ".") + "\r\n")
			}

			p.mu.Lock()
			refuse := p.refuse
			if !refuse {
				p.got = append(p.got, b.String())
			}

			p.mu.Unlock()
			if refuse {
				say("451 not now")
			} else {
				say("250 taken")
			}

		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 fine")
		}
	}
}

func (p *post) letters() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.got...)
}

func TestCheckMail(t *testing.T) {
	for url, fine := range map[string]bool{
		"mailto:watch@saltmarsh.example":         true,
		"mailto:":                                false,
		"mailto:watch":                           false,
		"mailto:a@b.example?bcc=c@d.example":     false,
		"mailto:a@b.example,c@d.example":         false,
		"mailto:a@b.example%0aBcc:c@d.example":   false,
		"mailto:Watch <a@b.example>":             false,
		"mailto:a@b.example\r\nBcc: c@d.example": false,
	} {
		t.Run(url, func(t *testing.T) {
			if err := CheckHook(wire.NewHook{URL: url, Kinds: []string{"findings"}, Every: 60}); (err == nil) != fine {
				t.Errorf("%q: %v", url, err)
			}
		})
	}

	if CheckHook(wire.NewHook{URL: "https://desk.example", Kinds: []string{"run"}, Every: 60}) == nil {
		t.Error("a program's notices are gathered")
	}
}

// People get a letter at once, or one for all that happened in a while; a title makes no header, and what is
// not taken is sent again.
func TestMail(t *testing.T) {
	ctx := t.Context()
	st := ownStore(t)
	p := newPost(t)

	// What is gathered for a day is told at its end: it is noon, whatever the clock says.
	noon := time.Now().UTC().Truncate(24 * time.Hour).Add(12 * time.Hour)
	d := &Engine{
		Store:      st,
		Log:        slog.New(slog.DiscardHandler),
		HookSecret: func(string) []byte { return nil },
		now:        func() time.Time { return noon },
		Mail:       &Mail{Server: p.Addr().String(), From: "tally@saltmarsh.example", Public: "https://tally.example"},
	}

	add := func(h store.Hook) store.Hook {
		t.Helper()
		h.KindList, h.Author = strings.Join(wire.NoticeKinds, ","), "admin"
		h, err := st.AddHook(ctx, h)
		must(t, err)
		return h
	}

	add(store.Hook{URL: "mailto:at-once@saltmarsh.example", Severity: "grave"})
	daily := add(store.Hook{URL: "mailto:daily@saltmarsh.example", Severity: "minor", Every: 24 * 60})
	add(store.Hook{URL: "mailto:opens@saltmarsh.example", Severity: "minor", Effect: "opens"})
	plan := store.Plan{
		ID:          "p1",
		Application: "ticketing",
		Title:       "Close the till\r\nBcc: thief@elsewhere.example\r\n\r\nhello",
		Author:      "quartermaster",
	}

	must(t, d.TellPlan(ctx, wire.NoticeReview, plan, ""))
	closes := drift.Group{Severity: baseline.Grave, Effect: perm.Effect{Closes: []perm.Gain{{}}}}
	opens := drift.Group{Severity: baseline.Minor, Effect: perm.Effect{Opens: []perm.Gain{{}}}}
	must(t,
		d.tellFindings(ctx, store.Report{
			Application: "ticketing",
			Host:        "slip-north",
			Fresh:       3,
		}, []drift.Group{closes}))

	must(t,
		d.tellFindings(ctx, store.Report{Application: "tideboard", Host: "slip-south", Fresh: 1}, []drift.Group{opens}))
	p.refuse = true
	must(t, d.Deliver(ctx, noon))
	hooks, err := st.Hooks(ctx)
	must(t, err)
	if !strings.Contains(hooks[0].Fault, "451") {
		t.Errorf("the fault is %q", hooks[0].Fault)
	}

	p.mu.Lock()
	p.refuse = false
	p.mu.Unlock()
	must(t, d.Deliver(ctx, noon.Add(time.Hour)))
	count := func(to string) (n int, last string) {
		for _, l := range p.letters() {
			if strings.Contains(l[:strings.Index(l, "\n")], to) {
				n, last = n+1, l[strings.Index(l, "\n")+1:]
			}
		}
		return n, last
	}

	if n, text := count("at-once@"); n != 1 || !strings.Contains(text, "asks for a review") ||
		!strings.Contains(text, "ticketing on slip-north") || strings.Contains(text, "slip-south") {
		t.Errorf("%d letters at once: %s", n, text)
	}

	if n, text := count("opens@"); n != 1 || strings.Contains(text, "slip-north") ||
		!strings.Contains(text, "slip-south") {
		t.Errorf("%d letters of what opens: %s", n, text)
	}

	if n, _ := count("daily@"); n != 0 {
		t.Errorf("%d letters before the day is over", n)
	}

	must(t, d.Deliver(ctx, noon.Add(25*time.Hour)))
	n, text := count("daily@")
	if n != 1 || !strings.Contains(text, "slip-north") || !strings.Contains(text, "slip-south") ||
		!strings.Contains(text, "https://tally.example/plans/p1") {
		t.Errorf("%d letters a day: %s", n, text)
	}

	for _, l := range p.letters() {
		m, err := netmail.ReadMessage(strings.NewReader(l[strings.Index(l, "\n")+1:]))
		must(t, err)
		subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
		if err != nil || !strings.HasPrefix(subject, "Idle Tally: ") || m.Header.Get("Bcc") != "" ||
			len(m.Header["To"]) != 1 || m.Header.Get("Auto-Submitted") != "auto-generated" {
			t.Errorf("%q, %v, %v", subject, m.Header, err)
		}
	}

	before := len(p.letters())
	must(t, d.Deliver(ctx, noon.Add(48*time.Hour)))
	if after := len(p.letters()); after != before {
		t.Errorf("%d letters more", after-before)
	}

	d.Mail = nil
	must(t, d.Tell(ctx, daily, "trial", "x", nil))
	must(t, d.Deliver(ctx, noon))
	if h, err := st.Hook(ctx, daily.ID); err != nil || !strings.Contains(h.Fault, "--mail-server") {
		t.Errorf("without a server: %+v, %v", h, err)
	}

	// A server elsewhere that offers no TLS gets nothing.
	d.Mail = &Mail{Server: "localhost:" + strings.Split(p.Addr().String(), ":")[1], From: "tally@saltmarsh.example"}
	before = len(p.letters())
	must(t, d.Deliver(ctx, noon.Add(72*time.Hour)))
	if h, err := st.Hook(ctx, daily.ID); err != nil || len(p.letters()) != before ||
		!strings.Contains(strings.ToLower(h.Fault), "tls") {
		t.Errorf("without TLS: %q, %v", h.Fault, err)
	}
}

// Programs are told of each notice by itself, beside each other: one that is slow holds up no other. Mail
// takes all that there is at once, and what was for a hook that is gone goes nowhere.
func TestShipments(t *testing.T) {
	hooks := []store.Hook{{ID: "web", URL: "https://desk.example"}, {ID: "mail", URL: "mailto:watch@saltmarsh.example"}}
	var list []store.Notice
	for i, to := range []string{"web", "mail", "gone", "web", "mail", "web"} {
		list = append(list, store.Notice{ID: fmt.Sprint(i), Hook: to})
	}

	var got []string
	for _, s := range shipments(hooks, list) {
		text := s.to.ID
		for _, n := range s.list {
			text += " " + n.ID
		}
		got = append(got, text)
	}

	if want := "web 0, mail 1 4, web 3, web 5"; strings.Join(got, ", ") != want {
		t.Errorf("%v, want %s", got, want)
	}
}
