package http

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/inquiry"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Where says where a question is asked, and of which path. Like Supposing it has a capital so that
// its fields are seen where it is embedded.
type Where struct {
	Host     string `query:"host" maxLength:"64" doc:"Ask this host now, through its agent"`
	Snapshot string `query:"snapshot" maxLength:"16" doc:"Ask this stored snapshot"`
	Path     string `query:"path" maxLength:"131072"`
}

// Supposing is what may be supposed beside what is.
type Supposing struct {
	Joining   []string `query:"joining,explode" maxItems:"20" doc:"Groups that the account would belong to"`
	Privilege []string `query:"privilege,explode" maxItems:"8" doc:"Capabilities that the account's process would have, such as CAP_DAC_READ_SEARCH"`
	Edition   string   `query:"edition" maxLength:"80" doc:"APPLICATION/NUMBER: as if this edition held everywhere"`
	Plan      string   `query:"plan" maxLength:"16" doc:"As if this plan had been run"`
}

func (s *Server) source(ctx context.Context, p Where) (inquiry.Source, string, error) {
	raw, err := unescaped("path", p.Path)
	if err != nil {
		return nil, "", err
	}
	switch {
	case (p.Host == "") == (p.Snapshot == ""):
		return nil, "", fault.Invalid(
			"give either host, to ask it now, or snapshot, to ask a stored one")
	case p.Snapshot != "":
		sc, err := s.stored(ctx, p.Snapshot)
		return sc, raw, err
	}
	sc, err := s.live(ctx, p.Host)
	return sc, raw, err
}

// one is a scene for questions about a path, which must be given.
func (s *Server) one(ctx context.Context, p Where) (inquiry.Source, string, error) {
	sc, raw, err := s.source(ctx, p)
	if err == nil {
		err = checked("path", raw)
	}
	return sc, raw, err
}

// unescaped reads the escaped text of a path or name that a parameter gives.
func unescaped(parameter, text string) (string, error) {
	raw, err := pathname.Unescape(text)
	if err != nil {
		return "", fault.Invalid(parameter + ": " + err.Error())
	}
	return raw, nil
}

// checked says what is wrong with the path that a parameter gives.
func checked(parameter, raw string) error {
	if err := pathname.Check(raw); err != nil {
		return fault.Invalid(parameter + ": " + err.Error())
	}
	return nil
}

// refuse turns what a question cannot be answered for into a problem that says so.
func refuse(err error) error {
	if errors.Is(err, inquiry.ErrBad) {
		return fault.Invalid(err.Error())
	}
	return err
}

// suppose makes the second half of an answer: states by an edition, or by a plan's steps.
func (s *Server) suppose(ctx context.Context, in Supposing, sc inquiry.Source) (inquiry.Suppose, error) {
	host := sc.Origin().Host
	out, err := inquiry.SupposeOf(in.Joining, in.Privilege)
	if err != nil {
		return out, refuse(err)
	}

	var words []string
	if out.Words != "" {
		words = append(words, out.Words)
	}

	switch {
	case in.Edition != "" && in.Plan != "":
		return out, fault.Invalid("suppose either an edition or a plan")
	case in.Edition != "":
		application, number, ok := strings.Cut(in.Edition, "/")
		n := 0
		if _, err := fmt.Sscanf(number, "%d", &n); !ok || err != nil {
			return out, fault.Invalid(
				"edition: want APPLICATION/NUMBER, such as ticketing/3; 0 is the published one")
		}

		e, err := s.Store.Edition(ctx, application, n)
		if err != nil {
			return out, err
		}
		doc, err := s.desk.ParseOn(ctx, e.Text, host)
		if err != nil {
			return out, err
		}
		d, err := s.accountsOf(ctx, sc)
		if err != nil {
			return out, err
		}

		m, _ := baseline.Compile(doc, d)
		out.States = func(path string, f perm.Found) perm.Set {
			after, err := m.Desired(m.Root(path), f.Kind, f.Set).Apply(f)
			if err != nil { // of another scheme: the edition says nothing of it
				return f.Set
			}
			return after
		}

		words = append(words, fmt.Sprintf("edition %d of %s holds everywhere", e.Number, application))
	case in.Plan != "":
		p, err := s.Store.Plan(ctx, in.Plan)
		if err != nil {
			return out, err
		}
		m, err := plan.ParseManifest(p.Manifest)
		if err != nil {
			return out, err
		}
		part, ok := m.For(host)
		if !ok {
			return out, fault.Invalid("plan " + in.Plan + " has no part on host " + host)
		}

		after := make(map[string]perm.Set, part.Steps)
		for n := range part.Chunks {
			steps, err := s.verifiedSteps(ctx, p, host, n)
			if err != nil {
				return out, err
			}
			for _, st := range steps {
				after[st.Path] = st.After
			}
		}

		out.States = func(path string, f perm.Found) perm.Set {
			if a, ok := after[path]; ok {
				return a
			}
			return f.Set
		}

		words = append(words, "plan "+in.Plan+" has been run")
	}

	out.Words = strings.Join(words, "; ")
	return out, nil
}

// accountsOf returns the accounts that an edition is read with: of the snapshot, or those that the
// host told of last.
func (s *Server) accountsOf(ctx context.Context, sc inquiry.Source) (*perm.Directory, error) {
	if st, ok := sc.(*stored); ok {
		return st.dir, nil
	}
	host := sc.Origin().Host
	d, _, err := s.Store.HostDirectory(ctx, host)
	if err == nil && d == nil {
		err = fault.Conflict("host " + host + " has told of no accounts yet: take a snapshot of it first")
	}
	return d, err
}

func operation(s string) (access.Operation, error) {
	op, err := access.ParseOperation(s)
	if err != nil {
		return 0, fault.Invalid(err.Error())
	}
	return op, nil
}

func (s *Server) lookingRoutes() {
	add(s,
		op{
			"GET", "/path", "show-path",
			"Show one path, on a host now or in a snapshot, with all that decides access to it", wire.Viewer, 200,
		},
		s.showPath)

	add(s,
		op{
			"GET", "/paths/new", "preview-new", "What an account's new files and folders get in a folder", wire.Viewer,
			200,
		},
		s.previewNew)

	add(s,
		op{
			"GET", "/paths", "list-paths",
			"List a folder, on a host now or in a snapshot; without a path the roots of the snapshot", wire.Viewer,
			200,
		},
		s.listPaths)

	add(s, op{"GET", "/access", "decide-access", "What an account can do with a path, and why", wire.Viewer, 200},
		s.decideAccess)

	add(s, op{"GET", "/access/holders", "list-holders", "Who can do something with a path, and why", wire.Viewer, 200},
		s.listHolders)

	add(s,
		op{"GET", "/access/matrix", "get-matrix", "What the accounts that matter can do with a path", wire.Viewer, 200},
		s.getMatrix)

	add(s,
		op{
			"GET", "/access/below", "list-below", "What an account can do with everything below a folder", wire.Viewer,
			200,
		},
		s.listBelow)

	add(s,
		op{
			"POST", "/access/probe", "probe-access",
			"Have a host try as an account, and set its answers beside the computed ones", wire.Operator, 200,
		},
		s.probeAccess)

	add(s,
		op{
			"GET", "/accounts/{name}", "show-account", "Who an account is on a host, and which groups it belongs to",
			wire.Viewer, 200,
		},
		s.showAccount)

	add(s,
		op{
			"GET", "/accounts", "list-accounts",
			"The accounts and groups that a host told of last, or with a snapshot", wire.Viewer, 200,
		},
		s.listAccounts)
}

const maxNames = 20_000

type names struct {
	Accounts []string `json:"accounts"`
	Groups   []string `json:"groups"`
}

// showPath serves: Show one path, on a host now or in a snapshot, with all that decides access to it.
func (s *Server) showPath(ctx context.Context, in *Where) (*body[wire.Sight], error) {
	sc, raw, err := s.one(ctx, *in)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Sight(ctx, sc, raw)
	if err == nil && in.Snapshot != "" {
		out.Findings, err = s.findingsAt(ctx, in.Snapshot, raw)
	}

	return &body[wire.Sight]{out}, err
}

// previewNewRequest is what previewNew takes.
type previewNewRequest struct {
	Where
	Account string `query:"account" required:"true" minLength:"1" maxLength:"256" doc:"Who makes them"`
	Umask   string `query:"umask" default:"0022" maxLength:"6"`
}

// previewNew serves: What an account's new files and folders get in a folder.
func (s *Server) previewNew(ctx context.Context, in *previewNewRequest) (*body[wire.Fresh], error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.NewIn(ctx, sc, raw, in.Account, in.Umask)
	return &body[wire.Fresh]{out}, refuse(err)
}

// listPathsRequest is what listPaths takes.
type listPathsRequest struct {
	Where
	Account string `query:"account" maxLength:"256" doc:"Say what this account can do with each entry"`
	After   string `query:"after" maxLength:"2048" doc:"Name to go on after"`
	Limit   int    `query:"limit" default:"500" minimum:"1" maximum:"5000"`
}

// listPaths serves: List a folder, on a host now or in a snapshot; without a path the roots of the snapshot.
func (s *Server) listPaths(ctx context.Context, in *listPathsRequest) (*body[wire.Listing], error) {
	sc, raw, err := s.source(ctx, in.Where)
	if err != nil {
		return nil, err
	}
	after, err := unescaped("after", in.After)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.List(ctx, sc, raw, in.Account, after, in.Limit)
	if err == nil && in.Snapshot != "" {
		err = s.mark(ctx, &out, in.Snapshot, raw)
	}

	return &body[wire.Listing]{out}, refuse(err)
}

// decideAccessRequest is what decideAccess takes.
type decideAccessRequest struct {
	Where
	Supposing
	Account   string `query:"account" required:"true" minLength:"1" maxLength:"256" doc:"Name or number on the host, or everyone"`
	Operation string `query:"operation" maxLength:"16" doc:"One operation; all that make sense without it"`
}

// decideAccess serves: What an account can do with a path, and why.
func (s *Server) decideAccess(ctx context.Context, in *decideAccessRequest) (*body[wire.Judgement], error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}

	var ops []access.Operation
	if in.Operation != "" {
		one, err := operation(in.Operation)
		if err != nil {
			return nil, err
		}
		ops = append(ops, one)
	}

	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Decide(ctx, sc, in.Account, raw, ops, sup)
	return &body[wire.Judgement]{out}, refuse(err)
}

// listHoldersRequest is what listHolders takes.
type listHoldersRequest struct {
	Where
	Supposing
	Operation string `query:"operation" required:"true" maxLength:"16"`
}

// listHolders serves: Who can do something with a path, and why.
func (s *Server) listHolders(ctx context.Context, in *listHoldersRequest) (*body[wire.Holders], error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}
	o, err := operation(in.Operation)
	if err != nil {
		return nil, err
	}
	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Everybody(ctx, sc, raw, o, sup)
	return &body[wire.Holders]{out}, refuse(err)
}

// getMatrixRequest is what getMatrix takes.
type getMatrixRequest struct {
	Where
	Supposing
	Most int `query:"most" default:"40" minimum:"1" maximum:"500"`
}

// getMatrix serves: What the accounts that matter can do with a path.
func (s *Server) getMatrix(ctx context.Context, in *getMatrixRequest) (*body[wire.Matrix], error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}
	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Matrix(ctx, sc, raw, in.Most, sup)
	return &body[wire.Matrix]{out}, refuse(err)
}

// listBelowRequest is what listBelow takes.
type listBelowRequest struct {
	Where
	Supposing
	Account   string `query:"account" required:"true" minLength:"1" maxLength:"256"`
	Operation string `query:"operation" required:"true" maxLength:"16"`
	Behind    bool   `query:"behind" doc:"Also what lies behind folders that do not let through, as if they did"`
	Weigh     bool   `query:"weigh" doc:"Say of each entry of the folder how much of what is in it is held"`
	After     string `query:"after" maxLength:"131072" doc:"Path to go on after"`
	Limit     int    `query:"limit" default:"500" minimum:"0" maximum:"5000"`
}

// listBelow serves: What an account can do with everything below a folder.
func (s *Server) listBelow(ctx context.Context, in *listBelowRequest) (*body[wire.Below], error) {
	ctx, cancel := context.WithTimeout(ctx, waitForWalk+5*time.Second)
	defer cancel()

	sc, raw, err := s.source(ctx, in.Where)
	if err != nil {
		return nil, err
	}
	o, err := operation(in.Operation)
	if err != nil {
		return nil, err
	}
	after, err := unescaped("after", in.After)
	if err != nil {
		return nil, err
	}
	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.BelowOf(ctx, sc, inquiry.BelowAsk{
		Path:      raw,
		Account:   in.Account,
		Operation: o,
		Suppose:   sup,
		Behind:    in.Behind,
		Weigh:     in.Weigh,
		After:     after,
		Limit:     in.Limit,
	})

	return &body[wire.Below]{out}, refuse(err)
}

// probeAccess serves: Have a host try as an account, and set its answers beside the computed ones.
func (s *Server) probeAccess(ctx context.Context, in *body[wire.ProbeAsk]) (*body[wire.Probe], error) {
	sc, err := s.live(ctx, in.Body.Host)
	if err != nil {
		return nil, err
	}
	raw, err := unescaped("path", in.Body.Path)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "access probed", in.Body.Host, in.Body.Account+" at "+in.Body.Path)
	r, err := sc.ask(ctx,
		wire.Question{Kind: wire.AskProbe, Path: pathname.Path(raw), Account: in.Body.Account}, waitForAnswer)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Compare(sc.Origin(), *r.Found, in.Body.Account, r.Tries)
	if err == nil && out.Differ {
		s.Log.Error("computed access differs from the host's own answer: an error of this program", "host",
			in.Body.Host, "repeat", out.Repeat)
	}

	return &body[wire.Probe]{out}, refuse(err)
}

// showAccountRequest is what showAccount takes.
type showAccountRequest struct {
	Host     string `query:"host" maxLength:"64"`
	Snapshot string `query:"snapshot" maxLength:"16"`
	Name     string `path:"name" maxLength:"256"`
}

// showAccount serves: Who an account is on a host, and which groups it belongs to.
func (s *Server) showAccount(ctx context.Context, in *showAccountRequest) (*body[wire.Account], error) {
	sc, _, err := s.source(ctx, Where{Host: in.Host, Snapshot: in.Snapshot})
	if err != nil {
		return nil, err
	}

	var d *perm.Directory
	if st, ok := sc.(*stored); ok {
		d = st.dir
	} else {
		f, err := sc.Path(ctx, "/", in.Name)
		if err != nil {
			return nil, err
		}
		d = f.Directory
	}

	out, err := inquiry.AccountOf(d, in.Name)
	return &body[wire.Account]{out}, refuse(err)
}

// listAccountsRequest is what listAccounts takes.
type listAccountsRequest struct {
	Host     string `query:"host" maxLength:"64" doc:"As this host told last"`
	Snapshot string `query:"snapshot" maxLength:"16"`
}

// listAccounts serves: The accounts and groups that a host told of last, or with a snapshot.
func (s *Server) listAccounts(ctx context.Context, in *listAccountsRequest) (*body[names], error) {
	var d *perm.Directory
	if in.Snapshot != "" {
		st, err := s.stored(ctx, in.Snapshot)
		if err != nil {
			return nil, err
		}
		d = st.dir
	} else {
		var err error
		if d, _, err = s.Store.HostDirectory(ctx, in.Host); err != nil {
			return nil, err
		}
	}

	out := names{Accounts: []string{}, Groups: []string{}}
	if d != nil {
		for _, a := range d.Accounts[:min(len(d.Accounts), maxNames)] {
			out.Accounts = append(out.Accounts, a.Name)
		}
		for _, g := range d.Groups[:min(len(d.Groups), maxNames)] {
			out.Groups = append(out.Groups, g.Name)
		}
	}

	return &body[names]{out}, nil
}
