package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"

	"idletally/internal/core/pathname"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Mail is how notices are sent by mail: a server that accepts them (RFC 5321), by TLS unless it is on this machine.
type Mail struct {
	Server   string // host:port
	From     string
	User     string // "": no sign-in
	Password string
	Public   string // where people find the console
}

const mailTo = "mailto:"

// Check says what is missing.
func (m Mail) Check() error {
	if _, _, err := net.SplitHostPort(m.Server); err != nil {
		return fmt.Errorf("--mail-server %q: want HOST:PORT", m.Server)
	}
	if _, err := netmail.ParseAddress(m.From); err != nil {
		return fmt.Errorf("--mail-from %q: want an address", m.From)
	}
	return nil
}

// address returns where a hook's mail goes, "" if it is none.
func address(h string) string {
	to, ok := strings.CutPrefix(h, mailTo)
	if !ok || strings.ContainsAny(to, "?%,<> \r\n") {
		return ""
	}
	if a, err := netmail.ParseAddress(to); err != nil || a.Address != to {
		return ""
	}
	return to
}

// mail sends what a hook is told, all of it in one letter.
func (d *Engine) mail(ctx context.Context, h store.Hook, list []store.Notice) error {
	if d.Mail == nil {
		return errors.New("this service has no mail server: see --mail-server of idletally serve")
	}
	host, port, err := net.SplitHostPort(d.Mail.Server)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	letter := mail.NewMsg()
	if err := errors.Join(letter.From(d.Mail.From), letter.To(address(h.URL))); err != nil {
		return err
	}

	subject, text := d.letter(list)
	letter.Subject(subject)
	letter.SetBodyString(mail.TypeTextPlain, text)
	letter.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's absence is told of back
	letter.SetMessageIDWithValue(list[0].ID + "@idletally")
	options := []mail.Option{
		mail.WithPort(number), mail.WithTimeout(noticePatience), mail.WithTLSPolicy(mail.TLSMandatory),
	}

	switch {
	case number == 465:
		options = append(options, mail.WithSSL())
	case net.ParseIP(host).IsLoopback():
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	}

	if d.Mail.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(d.Mail.User),
			mail.WithPassword(d.Mail.Password))
	}

	c, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}

	return c.DialAndSendWithContext(ctx, letter)
}

// letter words notices for people.
func (d *Engine) letter(list []store.Notice) (subject, text string) {
	var b strings.Builder
	for _, n := range list {
		var e struct {
			wire.Event
			Data json.RawMessage `json:"data"`
		}
		line := "Something happened: " + n.ID
		if json.Unmarshal([]byte(n.Body), &e) == nil {
			line = sentence(strings.TrimPrefix(e.Type, "idletally."), e.Data)
		}

		line = pathname.Escape(line) // what people and hosts wrote makes no lines of its own
		if subject == "" {
			subject = line
		}

		fmt.Fprintf(&b, "%s\n%s\n", line, e.Time.UTC().Format("2006-01-02 15:04 UTC"))
		if d.Mail.Public != "" {
			fmt.Fprintf(&b, "%s%s\n", d.Mail.Public, page(strings.TrimPrefix(e.Type, "idletally."), e.Data))
		}

		b.WriteByte('\n')
	}

	if len(list) > 1 {
		subject = fmt.Sprintf("%d notices; the first: %s", len(list), subject)
	}

	if len(subject) > 200 {
		subject = strings.ToValidUTF8(subject[:200], "") + "…"
	}

	return "Idle Tally: " + subject, b.String()
}

func sentence(kind string, data []byte) string {
	switch kind {
	case wire.NoticeFindings:
		var f wire.FindingsNotice
		if json.Unmarshal(data, &f) == nil {
			return fmt.Sprintf(
				"%d new findings of %s on %s, up to %s (%d came back; %d stand, of which %d open and %d close)", f.New,
				f.Application, f.Host, f.Severity, f.Returned, f.Findings, f.Opens, f.Closes)
		}

	case wire.NoticeReview, wire.NoticeRun:
		var p wire.PlanNotice
		if json.Unmarshal(data, &p) == nil && kind == wire.NoticeReview {
			return fmt.Sprintf("%s asks for a review of the plan %q for %s", p.Author, p.Title, p.Application)
		} else if p.Plan != "" {
			return fmt.Sprintf("The run of the plan %q for %s is %s", p.Title, p.Application, p.State)
		}

	case wire.NoticeLooks:
		var l wire.LooksNotice
		if json.Unmarshal(data, &l) == nil {
			return fmt.Sprintf("%s on %s: %s", l.Application, l.Host, l.Says)
		}
	case wire.NoticeEditions:
		var e wire.EditionNotice
		if json.Unmarshal(data, &e) == nil {
			return editionSentence(e)
		}
	case wire.NoticeHistory:
		var h wire.HistoryNotice
		if json.Unmarshal(data, &h) == nil && h.Fault != "" {
			return "The history is not what it was: " + h.Fault
		}
		return fmt.Sprintf("The history ends with line %d, hash %s", h.Line, h.Hash)
	}

	return "This is a trial: notices come here"
}

func editionSentence(e wire.EditionNotice) string {
	said := fmt.Sprintf("%s wants edition %d of %s published, and it waits for reviewers", e.Who, e.Edition, e.Of)
	if e.State == wire.EditionPublished {
		said = fmt.Sprintf("%s published edition %d of %s", e.Who, e.Edition, e.Of)
	}
	if e.Application != e.Of {
		said += fmt.Sprintf("; the baseline of %s includes it, and changes with it", e.Application)
	}
	return said
}

// page is where the console shows it.
func page(kind string, data []byte) string {
	var at struct {
		Application, Host, Plan, Of string
		Edition                     int
	}
	_ = json.Unmarshal(data, &at) // what is not there leads to the overview
	switch {
	case at.Plan != "":
		return "/plans/" + at.Plan
	case kind == wire.NoticeEditions:
		return fmt.Sprintf("/baselines/%s?effect=%d", at.Of, at.Edition)
	case kind == wire.NoticeFindings, kind == wire.NoticeLooks:
		return "/drift/" + at.Application
	}
	return "/"
}
