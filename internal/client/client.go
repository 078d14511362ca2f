// Package client calls the service: for the commands, and for the tests.
package client

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/wire"
)

// Client calls one service.
type Client struct {
	Address string // https://host:port
	Token   string
	Name    string // what calls, as whoever signs in sees it afterwards
	HTTP    *http.Client

	// Confirming lets calls that need it have the caller show again who they are, by Confirm; nil does not.
	Confirming func(context.Context) error
}

// New makes a client that trusts one authority.
func New(address string, authority []byte, token string) (*Client, error) {
	tlsConfig, err := TLS(authority)
	if err != nil {
		return nil, err
	}
	return &Client{Address: strings.TrimRight(address, "/"), Token: token,
		HTTP: &http.Client{
			Timeout: 3 * time.Minute,
			Transport: &http.Transport{TLSClientConfig: tlsConfig, ForceAttemptHTTP2: true,
				TLSHandshakeTimeout: 10 * time.Second, IdleConnTimeout: time.Minute},
		}}, nil
}

// TLS trusts exactly one authority; without one, those that the system trusts.
func TLS(authority []byte) (*tls.Config, error) {
	if len(authority) == 0 {
		return &tls.Config{MinVersion: tls.VersionTLS13}, nil
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(authority) {
		return nil, errors.New("the authority's file holds no certificate in PEM form")
	}
	return &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: pool}, nil
}

// Problem is an error that the service answered with (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Type   string `json:"type"`
	Code   string `json:"code"` // one of wire.Problems; "" of a service of before they had codes
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Again  bool   `json:"-"` // it takes that one shows again who one is (RFC 9470)
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += "\n  " + e.Message
		if e.Location != "" {
			s += " (" + e.Location + ")"
		}
	}
	return s
}

// ErrUnreachable says that the service did not answer at all.
var ErrUnreachable = errors.New("the service does not answer")

func unreachable(address string, err error) error {
	return fmt.Errorf("%w at %s: %w", ErrUnreachable, address, err)
}

// Status returns the HTTP status behind an error, 0 where there is none.
func Status(err error) int {
	var p *Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

// Code returns the code of the problem behind an error, "" where there is none: one of wire.Problems.
func Code(err error) string {
	var p *Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return ""
}

// Do makes one call. in and out may be nil. A call that broke off is made again: a change comes with a key, by which
// the service carries it out once.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	answer, err := c.persist(ctx, method, path, in, out)
	var p *Problem
	if errors.As(err, &p) && p.Again && c.Confirming != nil {
		if err := c.Confirming(ctx); err != nil {
			return err
		}
		answer, err = c.persist(ctx, method, path, in, out)
	}
	if err != nil || answer == nil {
		return err
	}
	if err := json.Unmarshal(answer, out); err != nil {
		return fmt.Errorf("answer of the service: %w", err)
	}
	return nil
}

// take reads an answer: it is written to where it should be, or returned to be decoded. The error is ErrUnreachable
// if the answer broke off and can be asked for again.
func (c *Client) take(resp *http.Response, out any) (answer []byte, err error) {
	if out == nil || resp.StatusCode == http.StatusNoContent {
		return nil, nil
	}

	if file, ok := out.(io.Writer); ok {
		if _, err := io.Copy(file, resp.Body); err != nil {
			return nil, fmt.Errorf("the answer broke off: %w", err) // and a part of it is written
		}
		return nil, nil
	}

	b, err := io.ReadAll(io.LimitReader(resp.Body, maxTaken))
	if err != nil {
		return nil, unreachable(c.Address, err)
	}

	if w, ok := out.(*Written); ok { // it is no JSON
		w.Holds, w.Body = resp.Header.Get("Idletally-Holds") == "yes", b
		return nil, nil
	}

	return b, nil
}

// maxTaken bounds one answer, in bytes.
const maxTaken = 256 << 20

// CheckResponse turns a problem body into an error.
func CheckResponse(resp *http.Response) error {
	if resp.StatusCode < 400 {
		return nil
	}
	p := &Problem{}
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if json.Unmarshal(b, p) != nil || p.Detail == "" && p.Title == "" {
		p.Detail = strings.TrimSpace(string(b))
	}
	p.Status = resp.StatusCode
	p.Again = strings.Contains(resp.Header.Get("WWW-Authenticate"), "insufficient_user_authentication")
	return p
}

func get[T any](ctx context.Context, c *Client, path string, q url.Values) (out T, err error) {
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	err = c.Do(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func send[T any](ctx context.Context, c *Client, method, path string, in any) (out T, err error) {
	err = c.Do(ctx, method, path, in, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	return send[T](ctx, c, http.MethodPost, path, in)
}

// A Pager reads a list page by page.
type Pager[T any] struct {
	c    *Client
	path string
	q    url.Values
	most int // items of one page; 0: as many as the service gives
}

// Page returns the page after a place in the list, "" for the first one, of at most so many items; 0 leaves it to the
// service.
func (p Pager[T]) Page(ctx context.Context, after string, limit int) (wire.Page[T], error) {
	q := url.Values{}
	for name, v := range p.q {
		q[name] = v
	}
	if after != "" {
		q.Set("after", after)
	}
	if p.most > 0 {
		if limit <= 0 || limit > p.most {
			limit = p.most
		}
		q.Set("limit", strconv.Itoa(limit))
	}
	return get[wire.Page[T]](ctx, p.c, p.path, q)
}

// upTo returns at most so many items of a list.
func (p Pager[T]) upTo(ctx context.Context, most int) ([]T, error) {
	out := []T{}
	for after := ""; ; {
		page, err := p.Page(ctx, after, most-len(out))
		if err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if page.Next == "" || len(out) >= most {
			return out[:min(len(out), most)], nil
		}
		after = page.Next
	}
}

// All follows a list to its end, at most most items.
func All[T any](ctx context.Context, c *Client, path string, q url.Values, most int) ([]T, error) {
	return Pager[T]{c: c, path: path, q: q}.upTo(ctx, most)
}

// SignIn opens a session.
func (c *Client) SignIn(ctx context.Context, in wire.SignIn) (wire.Session, error) {
	return post[wire.Session](ctx, c, "/sign-in", in)
}

// SignOut ends the session.
func (c *Client) SignOut(ctx context.Context) error {
	return c.Do(ctx, http.MethodPost, "/sign-out", nil, nil)
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Person, error) {
	return get[wire.Person](ctx, c, "/me", nil)
}

// AddPerson adds a person.
func (c *Client) AddPerson(ctx context.Context, in wire.NewPerson) (wire.OneTime, error) {
	return post[wire.OneTime](ctx, c, "/people", in)
}

// People lists people.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return All[wire.Person](ctx, c, "/people", nil, 10_000)
}

// Hosts lists hosts.
func (c *Client) Hosts(ctx context.Context) ([]wire.Host, error) {
	return c.HostPages("", "", "").upTo(ctx, 100_000)
}

// HostPages reads hosts page by page: with a tag, of an agent's version, in a state, where these are given.
func (c *Client) HostPages(tag, version, state string) Pager[wire.Host] {
	q := url.Values{}
	for name, value := range map[string]string{"tag": tag, "version": version, "state": state} {
		if value != "" {
			q.Set(name, value)
		}
	}
	return Pager[wire.Host]{c: c, path: "/hosts", q: q, most: 1000}
}

// Version says what the service is.
func (c *Client) Version(ctx context.Context) (wire.Build, error) {
	return get[wire.Build](ctx, c, "/version", nil)
}

// Invite makes an enrolment code.
func (c *Client) Invite(ctx context.Context, in wire.NewHost) (wire.Invitation, error) {
	return post[wire.Invitation](ctx, c, "/hosts", in)
}

// CheckBaseline checks a text.
func (c *Client) CheckBaseline(ctx context.Context, text string) (wire.Checked, error) {
	return post[wire.Checked](ctx, c, "/baselines/check", wire.BaselineText{Text: text})
}

// Trend returns how drift developed on the hosts of an application.
func (c *Client) Trend(ctx context.Context, application, host string, days int) ([]wire.Trend, error) {
	return All[wire.Trend](ctx, c, "/drift/trend",
		url.Values{"application": {application}, "host": {host}, "days": {strconv.Itoa(days)}}, 10_000)
}

// Causes returns where new paths keep coming out wrong, and why.
func (c *Client) Causes(ctx context.Context, application, host string, days int) ([]wire.Cause, error) {
	return c.CausePages(application, host, days).upTo(ctx, 100_000)
}

// CausePages reads them page by page.
func (c *Client) CausePages(application, host string, days int) Pager[wire.Cause] {
	return Pager[wire.Cause]{
		c:    c,
		path: "/drift/causes",
		q:    url.Values{"application": {application}, "host": {host}, "days": {strconv.Itoa(days)}},
		most: 2000,
	}
}

// Written is a report as it was written, and whether every host is as declared.
type Written struct {
	Body  []byte
	Holds bool
}

// Report returns the newest reports of an application, in a form for others. A look counts for an age; 0 leaves it to
// the service.
func (c *Client) Report(
	ctx context.Context, application, host, format string, age time.Duration,
) (w Written, err error) {
	err = c.Do(ctx, http.MethodGet,
		"/drift/report?"+
			url.Values{
				"application": {application},
				"host":        {host},
				"format":      {format},
				"age":         {inSeconds(age)},
			}.Encode(),
		nil, &w)
	return w, err
}

// Waive accepts findings until a date.
func (c *Client) Waive(ctx context.Context, w wire.NewWaiver) (wire.Waiver, error) {
	return post[wire.Waiver](ctx, c, "/waivers", w)
}

// Waivers lists the waivers of an application; those that are over only with all.
func (c *Client) Waivers(ctx context.Context, application string, all bool) ([]wire.Waiver, error) {
	return c.WaiverPages(application, all).upTo(ctx, 100_000)
}

// WaiverPages reads the waivers of an application page by page: those that count, or all.
func (c *Client) WaiverPages(application string, all bool) Pager[wire.Waiver] {
	return Pager[wire.Waiver]{
		c:    c,
		path: "/waivers",
		q:    url.Values{"application": {application}, "all": {strconv.FormatBool(all)}},
		most: 2000,
	}
}

// WithdrawWaiver ends a waiver before its time.
func (c *Client) WithdrawWaiver(ctx context.Context, id string) (wire.Waiver, error) {
	return post[wire.Waiver](ctx, c, "/waivers/"+url.PathEscape(id)+"/withdraw", nil)
}

// PreviewBaseline returns how a text would judge the last snapshots.
func (c *Client) PreviewBaseline(ctx context.Context, text string) (wire.EditionEffect, error) {
	return post[wire.EditionEffect](ctx, c, "/baselines/effect", wire.BaselineText{Text: text})
}

// DeriveBaseline drafts a baseline from hosts that are right.
func (c *Client) DeriveBaseline(ctx context.Context, in wire.NewDerivation) (wire.Derived, error) {
	return post[wire.Derived](ctx, c, "/baselines/derive", in)
}

// CompareEditions returns which paths one edition judges differently than another.
func (c *Client) CompareEditions(ctx context.Context, application string, old, fresh int) (wire.EditionEffect, error) {
	return get[wire.EditionEffect](ctx, c, fmt.Sprintf("/baselines/%s/%d/effect", url.PathEscape(application), fresh),
		url.Values{"against": {strconv.Itoa(old)}})
}

// ExplainPath returns which rule decides which aspect of a path; edition 0 is the published one.
func (c *Client) ExplainPath(
	ctx context.Context, application string, edition int, host, path string,
) (wire.Explained, error) {
	return get[wire.Explained](ctx, c, fmt.Sprintf("/baselines/%s/%d/explain", url.PathEscape(application), edition),
		url.Values{"host": {host}, "path": {path}})
}

// UploadBaseline keeps a text as a draft.
func (c *Client) UploadBaseline(ctx context.Context, text string) (wire.Edition, error) {
	return c.UploadBaselineAfter(ctx, text, nil)
}

// UploadBaselineAfter stores a baseline as the next draft edition if the newest one is this.
func (c *Client) UploadBaselineAfter(ctx context.Context, text string, after *int) (wire.Edition, error) {
	return post[wire.Edition](ctx, c, "/baselines", wire.NewEdition{Text: text, After: after})
}

// Publish makes an edition count.
func (c *Client) Publish(ctx context.Context, application string, number int) (wire.Edition, error) {
	return post[wire.Edition](ctx, c, fmt.Sprintf("/baselines/%s/%d/publish", url.PathEscape(application), number), nil)
}

// Editions lists editions.
func (c *Client) Editions(ctx context.Context, application string) ([]wire.Edition, error) {
	return c.EditionPages(application).upTo(ctx, 100_000)
}

// EditionPages reads the editions of an application page by page, newest first.
func (c *Client) EditionPages(application string) Pager[wire.Edition] {
	return Pager[wire.Edition]{c: c, path: "/baselines/" + url.PathEscape(application), most: 1000}
}

// Edition returns an edition with its text; 0 is the published one.
func (c *Client) Edition(ctx context.Context, application string, number int) (wire.Edition, error) {
	return get[wire.Edition](ctx, c, fmt.Sprintf("/baselines/%s/%d", url.PathEscape(application), number), nil)
}

// Applications lists applications.
func (c *Client) Applications(ctx context.Context) ([]wire.Application, error) {
	return All[wire.Application](ctx, c, "/applications", nil, 10_000)
}

// TakeSnapshot asks for a snapshot.
func (c *Client) TakeSnapshot(ctx context.Context, ask wire.NewSnapshot) (wire.Snapshot, error) {
	return post[wire.Snapshot](ctx, c, "/snapshots", ask)
}

// TakeSnapshots asks for a snapshot of an application on all of its hosts, or on some. Hosts that could not be asked
// are in the answer, with the reason.
func (c *Client) TakeSnapshots(
	ctx context.Context, application string, ask wire.NewSnapshots,
) ([]wire.AskedSnapshot, error) {
	p, err := post[wire.Page[wire.AskedSnapshot]](ctx, c, "/applications/"+url.PathEscape(application)+"/snapshots",
		ask)
	return p.Items, err
}

// CancelSnapshot cancels a snapshot that is not there yet.
func (c *Client) CancelSnapshot(ctx context.Context, id string) (wire.Snapshot, error) {
	return post[wire.Snapshot](ctx, c, "/snapshots/"+url.PathEscape(id)+"/cancel", nil)
}

// ExportSnapshot writes a snapshot as one file.
func (c *Client) ExportSnapshot(ctx context.Context, id string, w io.Writer) error {
	return c.Do(ctx, http.MethodGet, "/snapshots/"+url.PathEscape(id)+"/file", nil, w)
}

// ImportSnapshot takes in a snapshot file.
func (c *Client) ImportSnapshot(
	ctx context.Context, application, host, fingerprint string, r io.Reader,
) (out wire.Snapshot, err error) {
	err = c.Do(ctx, http.MethodPost,
		"/snapshots/import?"+
			url.Values{"application": {application}, "host": {host}, "fingerprint": {fingerprint}}.Encode(),
		r, &out)
	return out, err
}

// Admit admits a host without a network.
func (c *Client) Admit(ctx context.Context, name string, in wire.Admit) (wire.Enrolled, error) {
	return post[wire.Enrolled](ctx, c, "/hosts/"+url.PathEscape(name)+"/admit", in)
}

// WriteOrder writes a run's order for a host as one file, to be carried there.
func (c *Client) WriteOrder(ctx context.Context, run, host string, w io.Writer) error {
	at, q := "/runs/"+url.PathEscape(run), "?"+url.Values{"host": {host}}.Encode()
	if _, err := post[wire.Run](ctx, c, at+"/carry"+q, nil); err != nil {
		return err
	}
	return c.Do(ctx, http.MethodGet, at+"/order"+q, nil, w)
}

// TakeReport takes in a run's report from a file.
func (c *Client) TakeReport(ctx context.Context, r io.Reader) (out wire.Run, err error) {
	err = c.Do(ctx, http.MethodPost, "/runs/report", r, &out)
	return out, err
}

// Storage says how much is stored.
func (c *Client) Storage(ctx context.Context) (wire.Storage, error) {
	return get[wire.Storage](ctx, c, "/storage", nil)
}

// CheckStorage verifies a part of what is stored.
func (c *Client) CheckStorage(ctx context.Context, after string) (wire.StorageCheck, error) {
	return post[wire.StorageCheck](ctx, c, "/storage/check?"+url.Values{"after": {after}}.Encode(), nil)
}

// TidyStorage removes what is not to be kept.
func (c *Client) TidyStorage(ctx context.Context) (wire.Tidied, error) {
	return post[wire.Tidied](ctx, c, "/storage/tidy", nil)
}

// Snapshot shows a snapshot.
func (c *Client) Snapshot(ctx context.Context, id string) (wire.Snapshot, error) {
	return get[wire.Snapshot](ctx, c, "/snapshots/"+url.PathEscape(id), nil)
}

// Snapshots lists snapshots, newest first.
func (c *Client) Snapshots(ctx context.Context, application, host string, most int) ([]wire.Snapshot, error) {
	return c.SnapshotPages(application, host).upTo(ctx, most)
}

// SnapshotPages reads snapshots page by page, newest first.
func (c *Client) SnapshotPages(application, host string) Pager[wire.Snapshot] {
	return Pager[wire.Snapshot]{
		c:    c,
		path: "/snapshots",
		q:    url.Values{"application": {application}, "host": {host}},
		most: 1000,
	}
}

// Changes tells what changed from one snapshot to another; paths are listed after one, at most limit.
func (c *Client) Changes(ctx context.Context, from, to, after string, limit int) (wire.Turnover, error) {
	return get[wire.Turnover](ctx, c, "/snapshots/"+url.PathEscape(to)+"/changes", url.Values{
		"from":  {from},
		"after": {after},
		"limit": {strconv.Itoa(limit)},
	})
}

// Drift is the newest reports of an application.
type Drift struct {
	Verdict wire.Verdict       `json:"verdict"`
	Hosts   []wire.HostVerdict `json:"hosts"`
	Reports []wire.Report      `json:"reports"`
	Groups  []wire.Group       `json:"groups"`
}

// Drift returns the newest reports of an application, and the verdict on its hosts, where a look counts as long as
// the service says.
func (c *Client) Drift(ctx context.Context, application, host string) (Drift, error) {
	return c.DriftWithin(ctx, application, host, 0)
}

// DriftWithin is Drift where a look counts for an age; 0 leaves it to the service.
func (c *Client) DriftWithin(ctx context.Context, application, host string, age time.Duration) (Drift, error) {
	return get[Drift](ctx, c, "/drift", url.Values{
		"application": {application},
		"host":        {host},
		"age":         {inSeconds(age)},
	})
}

// inSeconds writes a duration for the service, rounded up.
func inSeconds(d time.Duration) string {
	return strconv.FormatInt(int64((d+time.Second-1)/time.Second), 10)
}

// Findings lists findings of a report, of one group where it is given.
func (c *Client) Findings(ctx context.Context, report, group string, most int) ([]wire.Finding, error) {
	return c.FindingPages(report, group).upTo(ctx, most)
}

// FindingPages reads a report's findings page by page, of one group where it is given.
func (c *Client) FindingPages(report, group string) Pager[wire.Finding] {
	return Pager[wire.Finding]{
		c:    c,
		path: "/reports/" + url.PathEscape(report) + "/findings",
		q:    url.Values{"group": {group}},
		most: 5000,
	}
}

// Unread lists what a report could not judge.
func (c *Client) Unread(ctx context.Context, report string) ([]wire.Left, error) {
	return Pager[wire.Left]{c: c, path: "/reports/" + url.PathEscape(report) + "/unread", most: 5000}.upTo(ctx,
		1_000_000)
}

// Foresee returns what changes would come to.
func (c *Client) Foresee(ctx context.Context, in wire.Foresee) (wire.Foreseen, error) {
	return post[wire.Foreseen](ctx, c, "/plans/foreseen", in)
}

// DraftPlan drafts a plan.
func (c *Client) DraftPlan(ctx context.Context, in wire.Draft) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans", in)
}

// Script returns a plan's steps on a host as a shell script.
func (c *Client) Script(ctx context.Context, id, host string, w io.Writer) error {
	return c.Do(ctx, http.MethodGet, "/plans/"+url.PathEscape(id)+"/script?"+url.Values{"host": {host}}.Encode(), nil,
		w)
}

// Withdraw takes one's own plan out of review, or one's own approval back.
func (c *Client) Withdraw(ctx context.Context, id string) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/withdraw", nil)
}

// Remark adds a remark to a plan.
func (c *Client) Remark(ctx context.Context, id string, r wire.NewRemark) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/remarks", r)
}

// SetReviewers sets how many people have to approve an application's plans.
func (c *Client) SetReviewers(ctx context.Context, application string, n int) error {
	return c.SetReviewRule(ctx, application, wire.ReviewRule{Reviewers: n})
}

// SetReviewRule sets how many people look at an application's plans, and at editions of its baseline.
func (c *Client) SetReviewRule(ctx context.Context, application string, r wire.ReviewRule) error {
	return c.Do(ctx, http.MethodPut, "/applications/"+url.PathEscape(application)+"/review", r, nil)
}

// Requests lists what waits for others to agree.
func (c *Client) Requests(ctx context.Context) ([]wire.Request, error) {
	return All[wire.Request](ctx, c, "/requests", nil, 10_000)
}

// Request shows a request.
func (c *Client) Request(ctx context.Context, id string) (wire.Request, error) {
	return get[wire.Request](ctx, c, "/requests/"+url.PathEscape(id), nil)
}

// RequestStatement returns the text that the caller is to sign of a request.
func (c *Client) RequestStatement(ctx context.Context, id string) (wire.ToSign, error) {
	return post[wire.ToSign](ctx, c, "/requests/"+url.PathEscape(id)+"/statement", nil)
}

// AgreeToRequest agrees to what somebody else wants to do.
func (c *Client) AgreeToRequest(ctx context.Context, id string, in wire.Agreement) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+url.PathEscape(id)+"/agree", in)
}

// DeclineRequest declines it, or takes back what the caller has asked for.
func (c *Client) DeclineRequest(ctx context.Context, id string) (wire.Request, error) {
	return post[wire.Request](ctx, c, "/requests/"+url.PathEscape(id)+"/decline", nil)
}

// Plans lists plans.
func (c *Client) Plans(ctx context.Context, state string, most int) ([]wire.Plan, error) {
	return c.PlanPages(state).upTo(ctx, most)
}

// PlanPages reads plans page by page, newest first.
func (c *Client) PlanPages(state string) Pager[wire.Plan] {
	q := url.Values{}
	if state != "" {
		q.Set("state", state)
	}
	return Pager[wire.Plan]{c: c, path: "/plans", q: q, most: 500}
}

// Plan shows a plan.
func (c *Client) Plan(ctx context.Context, id string) (wire.Plan, error) {
	return get[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id), nil)
}

// Steps lists steps of a plan on a host.
func (c *Client) Steps(ctx context.Context, id, host string, chunk int) ([]wire.Step, error) {
	p, err := get[wire.Page[wire.Step]](ctx, c, "/plans/"+url.PathEscape(id)+"/steps", url.Values{
		"host":  {host},
		"chunk": {strconv.Itoa(chunk)},
	})
	return p.Items, err
}

// Submit puts a plan in review.
func (c *Client) Submit(ctx context.Context, id string) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/submit", nil)
}

// SubmitSigned puts a plan in review, with what its author has signed of it.
func (c *Client) SubmitSigned(ctx context.Context, id string, in wire.Submission) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/submit", in)
}

// Statement returns what the caller is to sign of a plan.
func (c *Client) Statement(ctx context.Context, id string, in wire.WantedStatement) (wire.ToSign, error) {
	return post[wire.ToSign](ctx, c, "/plans/"+url.PathEscape(id)+"/statement", in)
}

// Evidence writes what is kept of a plan, for anybody to verify.
func (c *Client) Evidence(ctx context.Context, id string, w io.Writer) error {
	return c.Do(ctx, http.MethodGet, "/plans/"+url.PathEscape(id)+"/evidence", nil, w)
}

// Decide approves or declines a plan with a certain digest.
func (c *Client) Decide(ctx context.Context, id string, approve bool, in wire.Decision) (wire.Plan, error) {
	verb := "decline"
	if approve {
		verb = "approve"
	}
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/"+verb, in)
}

// ApproveAlone approves a plan that nobody else has looked at, where the roster lets the caller act alone.
func (c *Client) ApproveAlone(ctx context.Context, id string, in wire.Decision) (wire.Plan, error) {
	return post[wire.Plan](ctx, c, "/plans/"+url.PathEscape(id)+"/alone", in)
}

// StartRun runs an approved plan.
func (c *Client) StartRun(ctx context.Context, plan string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/plans/"+url.PathEscape(plan)+"/run", nil)
}

// Run shows a run.
func (c *Client) Run(ctx context.Context, id string) (wire.Run, error) {
	return get[wire.Run](ctx, c, "/runs/"+url.PathEscape(id), nil)
}

// Runs lists runs.
func (c *Client) Runs(ctx context.Context, most int) ([]wire.Run, error) {
	return c.RunPages().upTo(ctx, most)
}

// RunPages reads runs page by page, newest first.
func (c *Client) RunPages() Pager[wire.Run] {
	return Pager[wire.Run]{c: c, path: "/runs", most: 500}
}

// Halt halts a run.
func (c *Client) Halt(ctx context.Context, id string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/runs/"+url.PathEscape(id)+"/halt", nil)
}

// Resume goes on with a run.
func (c *Client) Resume(ctx context.Context, id string) (wire.Run, error) {
	return post[wire.Run](ctx, c, "/runs/"+url.PathEscape(id)+"/resume", nil)
}

// Results lists a run's steps that are not simply done.
func (c *Client) Results(ctx context.Context, id string, most int) ([]wire.RunResult, error) {
	return c.ResultPages(id).upTo(ctx, most)
}

// ResultPages reads page by page which of a run's steps are not simply done.
func (c *Client) ResultPages(id string) Pager[wire.RunResult] {
	return Pager[wire.RunResult]{c: c, path: "/runs/" + url.PathEscape(id) + "/results", most: 5000}
}

// Originals lists what a run found on a host before it changed anything, of all paths or of those that a pattern fits.
func (c *Client) Originals(ctx context.Context, id, host, paths string, most int) ([]wire.Original, error) {
	return c.OriginalPages(id, host, paths).upTo(ctx, most)
}

// OriginalPages reads page by page what a run found on a host.
func (c *Client) OriginalPages(id, host, paths string) Pager[wire.Original] {
	return Pager[wire.Original]{
		c:    c,
		path: "/runs/" + url.PathEscape(id) + "/originals",
		q:    url.Values{"host": {host}, "paths": {paths}},
	}
}

// A HistoryQuery says which lines of history are wanted; empty fields do not restrict.
type HistoryQuery struct {
	Who, What, Subject string
	From, To           time.Time
}

// History lists the audit log, newest first.
func (c *Client) History(ctx context.Context, p HistoryQuery, most int) ([]wire.History, error) {
	return c.HistoryPages(p).upTo(ctx, most)
}

// HistoryPages reads the audit log page by page, newest first.
func (c *Client) HistoryPages(p HistoryQuery) Pager[wire.History] {
	q := url.Values{}
	for name, v := range map[string]string{"who": p.Who, "what": p.What, "subject": p.Subject} {
		if v != "" {
			q.Set(name, v)
		}
	}
	for name, at := range map[string]time.Time{"from": p.From, "to": p.To} {
		if !at.IsZero() {
			q.Set(name, at.UTC().Format(time.RFC3339Nano))
		}
	}
	return Pager[wire.History]{c: c, path: "/history", q: q, most: 1000}
}

// Schedules lists when snapshots are taken automatically.
func (c *Client) Schedules(ctx context.Context) ([]wire.Schedule, error) {
	return All[wire.Schedule](ctx, c, "/schedules", nil, 10_000)
}

// AddSchedule has snapshots taken automatically.
func (c *Client) AddSchedule(ctx context.Context, x wire.NewSchedule) (wire.Schedule, error) {
	return post[wire.Schedule](ctx, c, "/schedules", x)
}

// RemoveSchedule removes a schedule.
func (c *Client) RemoveSchedule(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, "/schedules/"+url.PathEscape(id), nil, nil)
}

// Hooks lists where programs are told of events.
func (c *Client) Hooks(ctx context.Context) ([]wire.Hook, error) {
	return All[wire.Hook](ctx, c, "/hooks", nil, 10_000)
}

// AddHook has a program told of events.
func (c *Client) AddHook(ctx context.Context, h wire.NewHook) (wire.MadeHook, error) {
	return post[wire.MadeHook](ctx, c, "/hooks", h)
}

// TryHook sends an empty notice.
func (c *Client) TryHook(ctx context.Context, id string) (wire.Hook, error) {
	return post[wire.Hook](ctx, c, "/hooks/"+url.PathEscape(id)+"/try", nil)
}

// RemoveHook removes a hook.
func (c *Client) RemoveHook(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, "/hooks/"+url.PathEscape(id), nil, nil)
}

// ShutOut revokes all certificates of a host's agent.
func (c *Client) ShutOut(ctx context.Context, host string) (wire.Host, error) {
	return post[wire.Host](ctx, c, "/hosts/"+url.PathEscape(host)+"/shut-out", nil)
}

// News returns what has changed in how the caller signs in, since they said that they have seen it.
func (c *Client) News(ctx context.Context) (wire.News, error) {
	return get[wire.News](ctx, c, "/me/news", nil)
}

// SeeNews says that they have seen it, up to some line.
func (c *Client) SeeNews(ctx context.Context, until string) error {
	return c.Do(ctx, http.MethodPost, "/me/news/seen", wire.NewsSeen{Until: until}, nil)
}

// Keys returns the keys by which hosts are to know the service.
func (c *Client) Keys(ctx context.Context) (wire.ServiceKeys, error) {
	return get[wire.ServiceKeys](ctx, c, "/keys", nil)
}

// CheckHistory verifies the history.
func (c *Client) CheckHistory(ctx context.Context) (wire.HistoryCheck, error) {
	return get[wire.HistoryCheck](ctx, c, "/history/check", nil)
}

// ExportHistory writes the whole history, to be verified elsewhere.
func (c *Client) ExportHistory(ctx context.Context, to io.Writer) error {
	return c.Do(ctx, http.MethodGet, "/history/chain", nil, to)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return All[wire.Token](ctx, c, "/tokens", nil, 10_000)
}

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, t wire.NewToken) (wire.MadeToken, error) {
	return post[wire.MadeToken](ctx, c, "/tokens", t)
}

// RemoveToken ends a token.
func (c *Client) RemoveToken(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(id), nil, nil)
}

// Accounts returns the names of the accounts that a host reported last, or with a snapshot.
func (c *Client) Accounts(ctx context.Context, host, snapshot string) ([]string, error) {
	q := url.Values{}
	for name, v := range map[string]string{"host": host, "snapshot": snapshot} {
		if v != "" {
			q.Set(name, v)
		}
	}
	out, err := get[struct {
		Accounts []string `json:"accounts"`
	}](ctx, c, "/accounts", q)
	return out.Accounts, err
}

// Overview returns what needs somebody now, and how everything stands.
func (c *Client) Overview(ctx context.Context) (wire.Overview, error) {
	return get[wire.Overview](ctx, c, "/overview", nil)
}

// Search finds hosts, applications, rules, accounts, plans and paths.
func (c *Client) Search(ctx context.Context, text string) (wire.Found, error) {
	return get[wire.Found](ctx, c, "/search", url.Values{"q": {text}})
}

// SetRoles says what a person may do.
func (c *Client) SetRoles(ctx context.Context, name string, roles []string) (wire.Person, error) {
	return send[wire.Person](ctx, c, http.MethodPut, "/people/"+url.PathEscape(name)+"/roles", wire.RoleList{
		Roles: roles,
	})
}

// ResetPassword returns a person a one-time password.
func (c *Client) ResetPassword(ctx context.Context, name string) (wire.OneTime, error) {
	return post[wire.OneTime](ctx, c, "/people/"+url.PathEscape(name)+"/password", nil)
}

// RemovePerson removes somebody.
func (c *Client) RemovePerson(ctx context.Context, name string) error {
	return c.Do(ctx, http.MethodDelete, "/people/"+url.PathEscape(name), nil, nil)
}

// SetTags says which tags a host has.
func (c *Client) SetTags(ctx context.Context, host string, tags []string) (wire.Host, error) {
	return send[wire.Host](ctx, c, http.MethodPut, "/hosts/"+url.PathEscape(host)+"/tags", wire.TagList{Tags: tags})
}

// Watch follows a run and hands out its state whenever that changes, until the run has ended. A stream that ends or
// breaks off before that is opened again, as calls are made again.
func (c *Client) Watch(ctx context.Context, id string, each func(wire.Run)) error {
	for n := 1; ; n++ {
		ended, heard, err := c.watchOnce(ctx, id, each)
		if heard { // it is there
			n = 1
		}
		if ended || ctx.Err() != nil || err != nil && !passing(nil, err, n) {
			return err
		}
		if err := rest(ctx, n); err != nil {
			return err
		}
	}
}

// watchOnce follows a run by one stream. It reports whether the run has ended, or will not be told of any more, and
// whether anything came.
func (c *Client) watchOnce(ctx context.Context, id string, each func(wire.Run)) (ended, heard bool, err error) {
	heard, err = c.events(ctx, "/runs/"+url.PathEscape(id)+"/events", func(data []byte) error {
		var run wire.Run
		if err := json.Unmarshal(data, &run); err != nil {
			return fmt.Errorf("event: %w", err)
		}
		each(run)
		if run.State != lifecycle.RunRunning {
			return errEnded
		}

		return nil
	})

	switch {
	case errors.Is(err, errEnded):
		return true, heard, nil
	case errors.Is(err, ErrUnreachable), Status(err) == http.StatusServiceUnavailable:
		return false, heard, err
	}

	return err != nil, heard, err
}

// errEnded ends a stream of which nothing more is wanted.
var errEnded = errors.New("the stream has ended")

// events hands out the events of one stream until it ends. It reports whether anything came.
func (c *Client) events(ctx context.Context, path string, each func(data []byte) error) (heard bool, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Address+"/api/v1"+path, nil)
	if err != nil {
		return false, err
	}

	req.Header.Set("Authorization", "Bearer "+c.Token)
	patient := *c.HTTP
	patient.Timeout = 0
	resp, err := patient.Do(req)
	if err != nil {
		return false, unreachable(c.Address, err)
	}
	defer resp.Body.Close()

	if err := CheckResponse(resp); err != nil {
		return false, err
	}

	sc := bufio.NewScanner(resp.Body)
	sc.Buffer(nil, 4<<20)
	for sc.Scan() {
		heard = true
		data, ok := strings.CutPrefix(sc.Text(), "data: ")
		if !ok { // that it lives
			continue
		}
		if err := each([]byte(data)); err != nil {
			return heard, err
		}
	}

	if sc.Err() != nil {
		return heard, unreachable(c.Address, sc.Err())
	}

	return heard, nil
}

// Follow hands out events until the context ends; a stream that breaks is opened again, and begins with the kind
// "begin".
func (c *Client) Follow(ctx context.Context, each func(wire.Happening) error) error {
	for n := 1; ; n++ {
		heard, err := c.events(ctx, "/happenings", func(data []byte) error {
			var h wire.Happening
			if err := json.Unmarshal(data, &h); err != nil {
				return fmt.Errorf("event: %w", err)
			}
			return each(h)
		})

		if heard {
			n = 1
		}

		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil && !errors.Is(err, ErrUnreachable) && Status(err) != http.StatusServiceUnavailable ||
			err != nil && !passing(nil, err, n) {
			return err
		}
		if err := rest(ctx, n); err != nil {
			return err
		}
	}
}

// SignedIn lists one's sessions.
func (c *Client) SignedIn(ctx context.Context) ([]wire.SignedIn, error) {
	return All[wire.SignedIn](ctx, c, "/me/sessions", nil, 1000)
}

// EndSession ends one session; "" all but this one.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, strings.TrimRight("/me/sessions/"+url.PathEscape(id), "/"), nil, nil)
}

// EndSessionsOf signs somebody out everywhere.
func (c *Client) EndSessionsOf(ctx context.Context, name string) error {
	return c.Do(ctx, http.MethodDelete, "/people/"+url.PathEscape(name)+"/sessions", nil, nil)
}

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, in wire.NewPassword) error {
	return c.Do(ctx, http.MethodPost, "/me/password", in, nil)
}

// Confirm shows again who one is.
func (c *Client) Confirm(ctx context.Context, in wire.Confirm) error {
	return c.Do(ctx, http.MethodPost, "/me/confirm", in, nil)
}

// Policy returns the policy for people and their sessions.
func (c *Client) Policy(ctx context.Context) (wire.PolicyNow, error) {
	return get[wire.PolicyNow](ctx, c, "/policy", nil)
}

// SetPolicy sets it.
func (c *Client) SetPolicy(ctx context.Context, p wire.Policy) (wire.PolicyNow, error) {
	return send[wire.PolicyNow](ctx, c, http.MethodPut, "/policy", p)
}

// KeepPolicy keeps the policy as it is.
func (c *Client) KeepPolicy(ctx context.Context) (wire.PolicyNow, error) {
	return send[wire.PolicyNow](ctx, c, http.MethodDelete, "/policy/next", nil)
}

// ProposeSecond begins a second factor.
func (c *Client) ProposeSecond(ctx context.Context) (wire.Second, error) {
	return post[wire.Second](ctx, c, "/me/second", nil)
}

// ConfirmSecond turns a second factor on, and returns spare codes.
func (c *Client) ConfirmSecond(ctx context.Context, code string) ([]string, error) {
	got, err := send[wire.SpareCodes](ctx, c, http.MethodPut, "/me/second", wire.SecondCode{Code: code})
	return got.Codes, err
}

// RemoveSecond turns it off.
func (c *Client) RemoveSecond(ctx context.Context, code string) error {
	return c.Do(ctx, http.MethodPost, "/me/second/remove", wire.SecondCode{Code: code}, nil)
}

// RemoveSecondOf takes away somebody's second factor that was lost.
func (c *Client) RemoveSecondOf(ctx context.Context, name string) error {
	return c.Do(ctx, http.MethodDelete, "/people/"+url.PathEscape(name)+"/second", nil, nil)
}
