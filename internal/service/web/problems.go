package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"math"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// A Refusal is why a call failed (RFC 9457).
type Refusal struct {
	Type   string              `json:"type" format:"uri-reference" doc:"Where the service tells what this code means"`
	Code   string              `json:"code" doc:"Which of the problems it is; these do not change"`
	Title  string              `json:"title" doc:"The same in words"`
	Status int                 `json:"status" doc:"The HTTP status"`
	Detail string              `json:"detail,omitempty" doc:"What happened here, to what, and what to do"`
	Errors []*huma.ErrorDetail `json:"errors,omitempty" doc:"Places of the request that are not as they have to be"`
}

func (p *Refusal) Error() string             { return p.Detail }
func (p *Refusal) GetStatus() int            { return p.Status }
func (p *Refusal) ContentType(string) string { return "application/problem+json" }

// All errors of the API are problems.
func init() {
	huma.NewError = func(status int, detail string, errs ...error) huma.StatusError {
		return newProblem(status, detail, errs...)
	}
}

// byDocument is what the API's machinery says of a request that does not match its document.
const byDocument = "validation failed"

func newProblem(status int, detail string, errs ...error) *Refusal {
	p := &Refusal{Status: status, Detail: detail}
	for _, err := range errs {
		if err == nil {
			continue
		}
		d := &huma.ErrorDetail{Message: err.Error()}
		if x, ok := err.(huma.ErrorDetailer); ok {
			d = x.ErrorDetail()
		}
		// Not the value: it may be a secret, and large.
		p.Errors = append(p.Errors, &huma.ErrorDetail{Message: d.Message, Location: d.Location})
	}
	k := wire.ProblemOf(status, len(p.Errors) > 0 && detail == byDocument)
	p.Code, p.Type, p.Title = k.Code, wire.ProblemsAt+"#"+k.Code, http.StatusText(status)
	return p
}

// statuses are the HTTP statuses of refusals.
var statuses = map[fault.Kind]int{
	fault.KindFailed:       http.StatusInternalServerError,
	fault.KindMalformed:    http.StatusBadRequest,
	fault.KindUnauthorized: http.StatusUnauthorized,
	fault.KindForbidden:    http.StatusForbidden,
	fault.KindNotFound:     http.StatusNotFound,
	fault.KindConflict:     http.StatusConflict,
	fault.KindStale:        http.StatusPreconditionFailed,
	fault.KindTooLarge:     http.StatusRequestEntityTooLarge,
	fault.KindInvalid:      http.StatusUnprocessableEntity,
	fault.KindTooMany:      http.StatusTooManyRequests,
	fault.KindBadAnswer:    http.StatusBadGateway,
	fault.KindUnavailable:  http.StatusServiceUnavailable,
	fault.KindNoAnswer:     http.StatusGatewayTimeout,
	fault.KindFull:         http.StatusInsufficientStorage,
}

// refusalOf returns the problem body of a refusal.
func refusalOf(e *fault.Error) *Refusal {
	p := newProblem(statuses[e.Kind], e.Text, e.Places...)
	if e.Code != "" {
		p.Code, p.Type = e.Code, wire.ProblemsAt+"#"+e.Code
	}
	return p
}

// headersOf returns what a refusal says in headers: when to come again (RFC 9110, 10.2.3), and that callers have to
// show again who they are (RFC 9470, section 3).
func headersOf(e *fault.Error) http.Header {
	h := http.Header{}
	if e.Again > 0 {
		h.Set("Retry-After", strconv.Itoa(int(math.Ceil(e.Again.Seconds()))))
	}
	if e.Shown > 0 {
		h.Set("WWW-Authenticate", fmt.Sprintf(`Bearer error="insufficient_user_authentication", `+
			`error_description="show again who you are: POST /api/v1/me/confirm", max_age=%d`, int(e.Shown.Seconds())))
	}
	return h
}

// Problem turns an error into a problem body (RFC 9457), for the API's own machinery.
func (s *Edge) Problem(err error) error {
	var made huma.StatusError
	if err == nil || errors.As(err, &made) {
		return err
	}
	refusal := s.Refusal(err)
	return huma.ErrorWithHeaders(refusalOf(refusal), headersOf(refusal))
}

// Plain answers with a problem outside the API's own machinery.
func (s *Edge) Plain(w http.ResponseWriter, _ *http.Request, err error) {
	refusal := s.Refusal(err)
	body := refusalOf(refusal)
	maps.Copy(w.Header(), headersOf(refusal))
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(body.Status)
	_ = json.NewEncoder(w).Encode(body) // nobody is left to tell
}

var problemsPage = template.Must(template.New("problems").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Problems of Idle Tally</title></head>
<body><h1>Problems</h1><p>What an answer of the type application/problem+json means, by its code.</p>
<dl>{{range .}}<dt id="{{.Code}}"><strong>{{.Code}}</strong> ({{.Status}})</dt><dd>{{.Says}} {{.Do}}</dd>{{end}}</dl></body></html>
`))

// tellProblems shows what the problems are.
func tellProblems(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = problemsPage.Execute(w, wire.Problems) // nobody is left to tell
}

// challenging makes each 401 say how one signs in (RFC 9110, 11.6.1).
func challenging(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(&challenger{ResponseWriter: w}, r)
	})
}

type challenger struct{ http.ResponseWriter }

func (c *challenger) WriteHeader(status int) {
	if h := c.Header(); status == http.StatusUnauthorized && h.Get("WWW-Authenticate") == "" {
		h.Set("WWW-Authenticate", `Bearer realm="idletally"`)
	}
	c.ResponseWriter.WriteHeader(status)
}

// Flush sends what there is: streams depend on it.
func (c *challenger) Flush() {
	if f, ok := c.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}

// Unwrap is for http.ResponseController.
func (c *challenger) Unwrap() http.ResponseWriter { return c.ResponseWriter }
