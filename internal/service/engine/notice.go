package engine

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	mathrand "math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// CheckHook returns what is wrong with where notices are to go.
func CheckHook(in wire.NewHook) error {
	check := checkWeb
	if strings.HasPrefix(in.URL, mailTo) {
		check = checkMail
	}
	if err := check(in); err != nil {
		return err
	}
	for _, k := range in.Kinds {
		if !slices.Contains(wire.NoticeKinds, k) {
			return fmt.Errorf("%w: notices of the kind %q are unknown: want some of %v", ErrBad, k, wire.NoticeKinds)
		}
	}
	return nil
}

func checkMail(in wire.NewHook) error {
	if address(in.URL) == "" {
		return fmt.Errorf("%w: %q is no address for mail: want mailto:NAME@HOST, and nothing else", ErrBad, in.URL)
	}
	return nil
}

func checkWeb(in wire.NewHook) error {
	u, err := url.Parse(in.URL)
	switch {
	case in.Every > 0:
		return fmt.Errorf("%w: only mail is gathered: programs are told at once", ErrBad)
	case err != nil || u.Host == "" || u.User != nil:
		return fmt.Errorf("%w: %q is no address: want https://HOST/PATH, without a name and password in it", ErrBad,
			in.URL)
	case u.Scheme != "https" && !(u.Scheme == "http" && (u.Hostname() == "127.0.0.1" || u.Hostname() == "::1")):
		return fmt.Errorf("%w: notices go by https; by http to this machine alone", ErrBad)
	}
	return nil
}

// tell tells everybody who wants to hear of it that something happened.
func (d *Engine) tell(
	ctx context.Context, kind, application, subject string, wanted func(store.Hook) bool, data any,
) error {
	hooks, err := d.Store.Hooks(ctx)
	if err != nil {
		return err
	}

	var all error
	for _, h := range hooks {
		if h.Application != "" && h.Application != application || !slices.Contains(h.Kinds(), kind) {
			continue
		}
		if wanted != nil && !wanted(h) {
			continue
		}
		all = errors.Join(all, d.Tell(ctx, h, kind, subject, data))
	}

	return all
}

// Tell tells one hook of something: a CloudEvent (CloudEvents 1.0, JSON event format). What is collected waits for
// the others of its time.
func (d *Engine) Tell(ctx context.Context, h store.Hook, kind, subject string, data any) error {
	id := store.NewID()
	b, err := json.Marshal(wire.Event{
		SpecVersion: "1.0",
		ID:          id,
		Source:      "/idletally",
		Type:        "idletally." + kind,
		Subject:     subject,
		Time:        time.Now().UTC(),
		ContentType: "application/json",
		Data:        data,
	})

	if err != nil {
		return err
	}

	at := time.Now()
	if d.now != nil {
		at = d.now()
	}

	if every := time.Duration(h.Every) * time.Minute; every > 0 && kind != "trial" {
		at = at.Truncate(every).Add(every)
	}

	return d.Store.AddNotice(ctx, store.Notice{ID: id, Hook: h.ID, Body: string(b), Next: at})
}

// tellFindings tells of what a report found that was not there before.
func (d *Engine) tellFindings(ctx context.Context, r store.Report, groups []drift.Group) error {
	if r.Fresh+r.Returned == 0 {
		return nil
	}

	worst := func(effect string) int { // of the findings with an effect that nobody accepted
		most := -1
		for _, g := range groups {
			if g.Waiver == "" &&
				(effect == "" || effect == "opens" && len(g.Effect.Opens) > 0 ||
					effect == "closes" && len(g.Effect.Closes) > 0) {
				most = max(most, slices.Index(baseline.Severities, g.Severity))
			}
		}
		return most
	}

	all := worst("")
	if all < 0 {
		return nil
	}

	return d.tell(ctx, wire.NoticeFindings, r.Application, r.Application+"/"+r.Host, func(h store.Hook) bool {
		of := worst(h.Effect)
		return of >= 0 && of >= slices.Index(baseline.Severities, baseline.Severity(h.Severity))
	}, wire.FindingsNotice{
		Application: r.Application,
		Host:        r.Host,
		Report:      r.ID,
		Severity:    string(baseline.Severities[all]),
		New:         r.Fresh,
		Returned:    r.Returned,
		Findings:    r.Findings - r.Waived,
		Opens:       r.Opens,
		Closes:      r.Closes,
	})
}

// TellHistory tells where the history ends, or what is wrong with it.
func (d *Engine) TellHistory(ctx context.Context, h wire.HistoryNotice) error {
	return d.tell(ctx, wire.NoticeHistory, "", "history", nil, h)
}

// TellPlan tells that a plan waits for a reviewer, or how a run went.
func (d *Engine) TellPlan(ctx context.Context, kind string, p store.Plan, state string) error {
	return d.tell(ctx, kind, p.Application, p.ID, nil, wire.PlanNotice{
		Application: p.Application,
		Plan:        p.ID,
		Title:       p.Title,
		Author:      p.Author,
		State:       state,
	})
}

// TellEdition tells that an edition waits for reviewers, or is published: whoever hears of its application, and of each
// whose baseline includes it. Whoever hears of all applications is told once.
func (d *Engine) TellEdition(ctx context.Context, n wire.EditionNotice) error {
	subject := n.Of + "/" + strconv.Itoa(n.Edition)
	n.Application = n.Of
	err := d.tell(ctx, wire.NoticeEditions, n.Of, subject, nil, n)
	names, all := d.Including(ctx, n.Of)
	for _, name := range names {
		n.Application = name
		all = errors.Join(all, d.tell(ctx, wire.NoticeEditions, name, subject, func(h store.Hook) bool {
			return h.Application != ""
		}, n))
	}
	return errors.Join(err, all)
}

const (
	noticeLease    = time.Minute
	noticePatience = 15 * time.Second
	noticeTries    = 14 // the last more than half a day after the first
	noticesAtOnce  = 8
)

// signNotice signs what a hook is told, by RFC 9421 with the digest of RFC 9530: whoever has its secret can tell that
// it came from here, for this address, and when.
func signNotice(req *http.Request, hook string, secret []byte, at time.Time, body []byte) {
	sum := sha256.Sum256(body)
	req.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":")
	params := fmt.Sprintf(
		`("@method" "@target-uri" "content-type" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, at.Unix(),
		hook)
	uri := *req.URL
	uri.Path, uri.Fragment = cmp.Or(uri.Path, "/"), "" // 2.2.2: as it is on the wire
	m := hmac.New(sha256.New, secret)
	_, _ = fmt.Fprintf(m,
		"\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
		// a hash takes everything
		req.Method, uri.String(), req.Header.Get("Content-Type"), req.Header.Get("Content-Digest"), params)
	req.Header.Set("Signature-Input", "notice="+params)
	req.Header.Set("Signature", "notice=:"+base64.StdEncoding.EncodeToString(m.Sum(nil))+":")
}

// Notices are not sent on to where a redirect leads.
var noticeClient = &http.Client{
	Timeout:       noticePatience,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func (d *Engine) deliver(ctx context.Context, h store.Hook, n store.Notice) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, bytes.NewReader([]byte(n.Body)))
	if err != nil {
		return err
	}

	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "idletally")
	signNotice(req, h.ID, d.HookSecret(h.ID), time.Now(), []byte(n.Body))
	resp, err := noticeClient.Do(req)
	if u := new(url.Error); errors.As(err, &u) {
		return u.Err // where it was to go stands beside it
	}
	if err != nil {
		return err
	}
	defer resp.Body.Close()

	_, _ = io.CopyN(io.Discard, resp.Body, 64<<10) // what it says is of no use
	if resp.StatusCode/100 != 2 {
		// not what it says itself
		return fmt.Errorf("it answers %d %s", resp.StatusCode, http.StatusText(resp.StatusCode))
	}

	return nil
}

// Deliver sends what is due, several at once. What nobody accepts is tried again later and later, and in the end
// dropped.
func (d *Engine) Deliver(ctx context.Context, at time.Time) error {
	list, err := d.Store.ClaimNotices(ctx, at, noticeLease, 100)
	if err != nil || len(list) == 0 {
		return err
	}
	hooks, err := d.Store.Hooks(ctx)
	if err != nil {
		return err
	}

	parts := shipments(hooks, list)
	var all sync.WaitGroup
	var mu sync.Mutex
	free := make(chan struct{}, noticesAtOnce)

	for _, part := range parts {
		free <- struct{}{}
		all.Go(func() {
			defer func() { <-free }()
			e := d.send(ctx, part, at)
			mu.Lock()
			defer mu.Unlock()
			err = errors.Join(err, e)
		})
	}

	all.Wait()
	return err
}

// A shipment is what goes to a hook at once: one notice, or by mail all that there are.
type shipment struct {
	to   store.Hook
	list []store.Notice
}

func shipments(hooks []store.Hook, list []store.Notice) (out []shipment) {
	letters := map[string]int{} // by hook
	for _, n := range list {
		i := slices.IndexFunc(hooks, func(h store.Hook) bool { return h.ID == n.Hook })
		if i < 0 {
			continue // it was removed, and its notices with it
		}

		h := hooks[i]
		if at, begun := letters[h.ID]; begun {
			out[at].list = append(out[at].list, n)
			continue
		}

		if address(h.URL) != "" {
			letters[h.ID] = len(out)
		}

		out = append(out, shipment{h, []store.Notice{n}})
	}

	return out
}

// send delivers a shipment, and records how that went.
func (d *Engine) send(ctx context.Context, s shipment, at time.Time) error {
	var sent error
	if address(s.to.URL) != "" {
		sent = d.mail(ctx, s.to, s.list)
	} else {
		sent = d.deliver(ctx, s.to, s.list[0])
	}
	var all error
	for _, n := range s.list {
		all = errors.Join(all, d.note(ctx, n, sent, at))
	}
	return all
}

// note records whether a notice was delivered, and when to try again.
func (d *Engine) note(ctx context.Context, n store.Notice, sent error, at time.Time) error {
	switch {
	case sent == nil:
		return d.Store.Told(ctx, n)
	case n.Tries >= noticeTries:
		return d.Store.NotTold(ctx, n, "given up: "+sent.Error(), time.Time{})
	}
	pause := min(10*time.Second<<min(n.Tries, 10), 2*time.Hour)
	return d.Store.NotTold(ctx, n, sent.Error(), at.Add(pause/2+mathrand.N(pause)))
}
