package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"idletally/internal/service/app"
	"idletally/internal/service/budget"
	"idletally/internal/service/web"
)

// What the table says in a word.
const (
	anybody  = app.Anybody
	signedIn = app.SignedIn

	quick   = app.Quick
	costly  = app.Costly
	sending = app.Sending
	hashing = app.Hashing
	waiting = app.Waiting
	asking  = app.Asking
)

// A route is one operation in the table.
type route interface {
	describe() op
	register(*API)
}

// An op is what is true of an operation, whatever it takes and answers.
type op struct {
	app.Rule
	method, path string
	summary      string
	class        budget.Class // what it costs
	status       int          // of its answer; 0 is 200, or 204 where it answers nothing
}

// A row is a route whose operation takes an I and answers an O. Whoever makes it says what of the two is the body of
// a call or an answer and what is all of it: only that is compiled, since the API's machinery is large for each pair.
type row[I, O any] struct {
	op
	serve       handler[I, O]
	application func(context.Context, *I) (string, error)
	enrol       func(*API, huma.Operation, row[I, O]) // has it served
}

// A handler serves an operation.
type handler[I, O any] func(context.Context, *I) (*O, error)

// get takes parameters.
func get[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodGet, path, id, role, class, serve, summary, parametersToBody[I, O])
}

// getAs takes parameters, and answers with headers.
func getAs[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodGet, path, id, role, class, serve, summary, asTheyAre[I, O])
}

// getFile takes parameters, and answers with a file.
func getFile[I any](
	path, id, role string, class budget.Class, serve handler[I, app.Download], summary string,
) row[I, app.Download] {
	return rowOf(http.MethodGet, path, id, role, class, serve, summary, parametersToFile[I])
}

// post takes a body, and answers with one.
func post[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodPost, path, id, role, class, serve, summary, bodyToBody[I, O])
}

// postTo takes parameters, and may have a body among them.
func postTo[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodPost, path, id, role, class, serve, summary, parametersToBody[I, O])
}

// postAs takes parameters, and answers with headers.
func postAs[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodPost, path, id, role, class, serve, summary, asTheyAre[I, O])
}

// tell takes a body, and answers nothing.
func tell[I any](
	path, id, role string, class budget.Class, serve handler[I, struct{}], summary string,
) row[I, struct{}] {
	return rowOf(http.MethodPost, path, id, role, class, serve, summary, bodyToNothing[I])
}

// put takes a body, and answers with one.
func put[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodPut, path, id, role, class, serve, summary, bodyToBody[I, O])
}

// putAs takes parameters, and answers with headers.
func putAs[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodPut, path, id, role, class, serve, summary, asTheyAre[I, O])
}

// del takes parameters, and answers nothing, or with headers.
func del[I, O any](path, id, role string, class budget.Class, serve handler[I, O], summary string) row[I, O] {
	return rowOf(http.MethodDelete, path, id, role, class, serve, summary, asTheyAre[I, O])
}

func rowOf[I, O any](
	method, path, id, role string, class budget.Class, serve handler[I, O], summary string,
	enrol func(*API, huma.Operation, row[I, O]),
) row[I, O] {
	rule := app.Rule{ID: id, Summary: summary, Changes: method != http.MethodGet, Role: role}
	o := op{Rule: rule, method: method, path: path, summary: summary, class: class}
	return row[I, O]{op: o, serve: serve, enrol: enrol}
}

// asTheyAre serves a row whose types are of a whole call and a whole answer.
func asTheyAre[I, O any](s *API, def huma.Operation, r row[I, O]) {
	huma.Register(s.api, def, func(ctx context.Context, in *I) (*O, error) { return r.answer(ctx, s, in) })
}

func parametersToBody[I, O any](s *API, def huma.Operation, r row[I, O]) {
	huma.Register(s.api, def, func(ctx context.Context, in *I) (*body[O], error) {
		return bodied(r.answer(ctx, s, in))
	})
}

func parametersToFile[I any](s *API, def huma.Operation, r row[I, app.Download]) {
	huma.Register(s.api, def, func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
		out, err := r.answer(ctx, s, in)
		if err != nil {
			return nil, err
		}
		return s.stream(out, r.op), nil
	})
}

func bodyToBody[I, O any](s *API, def huma.Operation, r row[I, O]) {
	huma.Register(s.api, def, func(ctx context.Context, in *body[I]) (*body[O], error) {
		return bodied(r.answer(ctx, s, &in.Body))
	})
}

func bodyToNothing[I any](s *API, def huma.Operation, r row[I, struct{}]) {
	huma.Register(s.api, def, func(ctx context.Context, in *body[I]) (*struct{}, error) {
		return r.answer(ctx, s, &in.Body)
	})
}

// created makes a row answer that something was made.
func (r row[I, O]) created() row[I, O] { r.status = http.StatusCreated; return r }

// accepted makes a row answer that something will be done.
func (r row[I, O]) accepted() row[I, O] { r.status = http.StatusAccepted; return r }

// of makes the role needed for one application enough: the one to which the requested thing belongs.
func (r row[I, O]) of(application func(context.Context, *I) (string, error)) row[I, O] {
	r.OfOne, r.application = true, application
	return r
}

// named makes the role needed for one application enough: the one that a call names.
func (r row[I, O]) named(application func(*I) string) row[I, O] {
	return r.of(func(_ context.Context, in *I) (string, error) { return application(in), nil })
}

// inPerson makes an operation one that people call themselves, and refuses programs.
func (r row[I, O]) inPerson() row[I, O] { r.InPerson = true; return r }

// fresh makes callers show who they are, unless they have just done so.
func (r row[I, O]) fresh() row[I, O] { r.Fresh = true; return r }

// agreed makes a call wait until others with a role have agreed to it, where the policy or its application says so.
func (r row[I, O]) agreed(role string) row[I, O] { r.Agree = role; return r }

// beforeTwoFactor allows an operation to those who have to set up a second factor first.
func (r row[I, O]) beforeTwoFactor() row[I, O] { r.BeforeTwoFactor = true; return r }

func (r row[I, O]) describe() op { return r.op }

// register registers the operation.
func (r row[I, O]) register(s *API) {
	def := s.definition(r.op)
	promise[I](&def, r.op)

	r.enrol(s, def, r)
	explain(s.api.OpenAPI().Paths[def.Path], r.method)
}

// answer serves a call, unless its role is for another application.
func (r row[I, O]) answer(ctx context.Context, s *API, in *I) (*O, error) {
	application := ""
	if r.application != nil {
		var err error
		if application, err = r.application(ctx, in); err != nil {
			return nil, s.Problem(err)
		}
		if err := s.AllowFor(ctx, r.Rule, application); err != nil {
			return nil, s.Problem(err)
		}
	}

	done, err := s.Agreed(ctx, r.Rule, application, in)
	if err != nil {
		return nil, s.Problem(err)
	}
	out, err := r.serve(ctx, in)
	done(err)
	if err != nil {
		return nil, s.Problem(err)
	}
	return out, nil
}

// body is a call or an answer that has nothing but a body.
type body[T any] struct{ Body T }

func bodied[T any](out *T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{*out}, nil
}

// stream writes a file. A download that fails half way is cut off, so that nobody takes it for all: it is logged.
func (s *API) stream(f *app.Download, o op) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", f.Type)
		if f.Name != "" {
			ctx.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", f.Name))
		}
		if err := f.Write(ctx.Context(), ctx.BodyWriter()); err != nil {
			s.Log.Error("a file was not written to its end", "operation", o.ID, "error", err)
			panic(http.ErrAbortHandler)
		}
	}}
}

// definition returns what the API's machinery is told of an operation. Callers without permission learn nothing, not
// even what is wrong with the call; the others are let in before the body is read.
func (s *API) definition(o op) huma.Operation {
	def := huma.Operation{
		Method:        o.method,
		Path:          web.APIPath + o.path,
		OperationID:   o.ID,
		Summary:       o.summary,
		DefaultStatus: o.status,
		Metadata:      map[string]any{"role": o.Role},
		MaxBodyBytes:  web.MaxBody,
	}

	def.Middlewares = huma.Middlewares{func(ctx huma.Context, next func(huma.Context)) {
		r, w := humachi.Unwrap(ctx)
		if err := s.Allow(ctx.Context(), o.Rule); err != nil {
			s.Plain(w, r, err)
			return
		}

		within, leave, err := s.Enter(ctx.Context(), o.class, web.Personally(r))
		if err != nil {
			s.Plain(w, r, err)
			return
		}
		defer leave()
		next(huma.WithContext(ctx, within))
	}}
	return def
}
