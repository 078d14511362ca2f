package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/lifecycle"
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

func (s *App) source(ctx context.Context, p Where) (inquiry.Source, string, error) {
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

// one returns the scene for questions about a path, which must be given.
func (s *App) one(ctx context.Context, p Where) (inquiry.Source, string, error) {
	sc, raw, err := s.source(ctx, p)
	if err == nil {
		err = checked("path", raw)
	}
	return sc, raw, err
}

// question returns the scene for a question about a path, which must be given, and the operation that it is about.
func (s *App) question(
	ctx context.Context, p Where, operationText string,
) (sc inquiry.Source, raw string, op access.Operation, err error) {
	if sc, raw, err = s.one(ctx, p); err == nil {
		op, err = operation(operationText)
	}
	return sc, raw, op, err
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

// refuse turns the reason why a question cannot be answered into a problem that says so.
func refuse(err error) error {
	if errors.Is(err, inquiry.ErrBad) {
		return fault.Invalid(err.Error())
	}
	return err
}

// suppose makes the second half of an answer: states by an edition, or by a plan's steps.
func (s *App) suppose(ctx context.Context, in Supposing, sc inquiry.Source) (inquiry.Suppose, error) {
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

		e, err := s.store.Edition(ctx, application, n)
		if err != nil {
			return out, err
		}
		doc, err := s.engine.ParseOn(ctx, e.Text, host)
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
		p, err := s.store.Plan(ctx, in.Plan)
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

// accountsOf returns the accounts that an edition is read with: those of the snapshot, or those that the host
// reported last.
func (s *App) accountsOf(ctx context.Context, sc inquiry.Source) (*perm.Directory, error) {
	if st, ok := sc.(*stored); ok {
		return st.dir, nil
	}
	host := sc.Origin().Host
	d, _, err := s.store.HostDirectory(ctx, host)
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

const maxNames = 20_000

type names struct {
	Accounts []string `json:"accounts"`
	Groups   []string `json:"groups"`
}

// ShowPath shows one path, on a host now or in a snapshot, with all that decides access to it.
func (s *App) ShowPath(ctx context.Context, in *Where) (*wire.Sight, error) {
	sc, raw, err := s.one(ctx, *in)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Sight(ctx, sc, raw)
	if err == nil && in.Snapshot != "" {
		out.Findings, err = s.findingsAt(ctx, in.Snapshot, raw)
	}

	return &out, err
}

// PreviewNewRequest is the request of [App.PreviewNew].
type PreviewNewRequest struct {
	Where
	Account string `query:"account" required:"true" minLength:"1" maxLength:"256" doc:"Who makes them"`
	Umask   string `query:"umask" default:"0022" maxLength:"6"`
}

// PreviewNew returns what an account's new files and folders get in a folder.
func (s *App) PreviewNew(ctx context.Context, in *PreviewNewRequest) (*wire.Fresh, error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.NewIn(ctx, sc, raw, in.Account, in.Umask)
	return &out, refuse(err)
}

// ListPathsRequest is the request of [App.ListPaths].
type ListPathsRequest struct {
	Where
	Account string `query:"account" maxLength:"256" doc:"Say what this account can do with each entry"`
	After   string `query:"after" maxLength:"2048" doc:"Name to go on after"`
	Limit   int    `query:"limit" default:"500" minimum:"1" maximum:"5000"`
}

// ListPaths lists a folder, on a host now or in a snapshot; without a path the roots of the snapshot.
func (s *App) ListPaths(ctx context.Context, in *ListPathsRequest) (*wire.Listing, error) {
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

	return &out, refuse(err)
}

// DecideAccessRequest is the request of [App.DecideAccess].
type DecideAccessRequest struct {
	Where
	Supposing
	Account   string `query:"account" required:"true" minLength:"1" maxLength:"256" doc:"Name or number on the host, or everyone"`
	Operation string `query:"operation" maxLength:"16" doc:"One operation; all that make sense without it"`
}

// DecideAccess returns what an account can do with a path, and why.
func (s *App) DecideAccess(ctx context.Context, in *DecideAccessRequest) (*wire.Judgement, error) {
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
	return &out, refuse(err)
}

// ProposeAccessRequest is the request of [App.ProposeAccess].
type ProposeAccessRequest struct {
	Where
	Account   string `query:"account" required:"true" minLength:"1" maxLength:"256" doc:"Name or number on the host"`
	Operation string `query:"operation" required:"true" maxLength:"16"`
}

// ProposeAccess returns what it would take that an account can do something with a path.
func (s *App) ProposeAccess(ctx context.Context, in *ProposeAccessRequest) (*wire.Proposals, error) {
	sc, raw, op, err := s.question(ctx, in.Where, in.Operation)
	if err != nil {
		return nil, err
	}
	all, err := s.whole(ctx, sc, raw)
	if err != nil {
		return nil, err
	}
	out, err := inquiry.Propose(ctx, sc, all, in.Account, raw, op)
	return &out, refuse(err)
}

// whole returns the snapshot in which all around a path can be counted: the one that is asked, or of a host that is
// asked itself its newest that holds the path; nil where there is none.
func (s *App) whole(ctx context.Context, sc inquiry.Source, path string) (inquiry.Source, error) {
	if st, ok := sc.(*stored); ok {
		return st, nil
	}
	rows, err := s.store.Snapshots(ctx, "", sc.Origin().Host, "", 20)
	if err != nil {
		return nil, err
	}
	for _, v := range rows {
		switch holds, err := v.Holds(path); {
		case err != nil:
			return nil, err
		case holds && v.State == lifecycle.SnapshotReady:
			return s.stored(ctx, v.ID)
		}
	}
	return nil, nil
}

// ProposeRestrictionRequest is the request of [App.ProposeRestriction].
type ProposeRestrictionRequest struct {
	Where
	Only      []string `query:"only,explode" maxItems:"50" doc:"Accounts by name or number on the host; none: nobody"`
	Operation string   `query:"operation" required:"true" maxLength:"16"`
}

// ProposeRestriction returns what has to be taken away so that nobody but some accounts can do something with a path.
func (s *App) ProposeRestriction(ctx context.Context, in *ProposeRestrictionRequest) (*wire.Restriction, error) {
	sc, raw, op, err := s.question(ctx, in.Where, in.Operation)
	if err != nil {
		return nil, err
	}
	out, err := inquiry.Restrict(ctx, sc, append([]string{}, in.Only...), raw, op)
	return &out, refuse(err)
}

// ListHoldersRequest is the request of [App.ListHolders].
type ListHoldersRequest struct {
	Where
	Supposing
	Operation string `query:"operation" required:"true" maxLength:"16"`
}

// ListHolders returns who can do something with a path, and why.
func (s *App) ListHolders(ctx context.Context, in *ListHoldersRequest) (*wire.Holders, error) {
	sc, raw, op, err := s.question(ctx, in.Where, in.Operation)
	if err != nil {
		return nil, err
	}
	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Everybody(ctx, sc, raw, op, sup)
	return &out, refuse(err)
}

// GetMatrixRequest is the request of [App.GetMatrix].
type GetMatrixRequest struct {
	Where
	Supposing
	Most int `query:"most" default:"40" minimum:"1" maximum:"500"`
}

// GetMatrix returns what the accounts that matter can do with a path.
func (s *App) GetMatrix(ctx context.Context, in *GetMatrixRequest) (*wire.Matrix, error) {
	sc, raw, err := s.one(ctx, in.Where)
	if err != nil {
		return nil, err
	}
	sup, err := s.suppose(ctx, in.Supposing, sc)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Matrix(ctx, sc, raw, in.Most, sup)
	return &out, refuse(err)
}

// ListBelowRequest is the request of [App.ListBelow].
type ListBelowRequest struct {
	Where
	Supposing
	Account   string `query:"account" required:"true" minLength:"1" maxLength:"256"`
	Operation string `query:"operation" required:"true" maxLength:"16"`
	Behind    bool   `query:"behind" doc:"Also what lies behind folders that cannot be traversed, as if they could"`
	Weigh     bool   `query:"weigh" doc:"Say of each entry of the folder how much of what is in it is held"`
	After     string `query:"after" maxLength:"131072" doc:"Path to go on after"`
	Limit     int    `query:"limit" default:"500" minimum:"0" maximum:"5000"`
}

// ListBelow returns what an account can do with everything below a folder.
func (s *App) ListBelow(ctx context.Context, in *ListBelowRequest) (*wire.Below, error) {
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

	return &out, refuse(err)
}

// ProbeAccess has a host try as an account, and sets its answers beside the computed ones.
func (s *App) ProbeAccess(ctx context.Context, in *wire.ProbeAsk) (*wire.Probe, error) {
	sc, err := s.live(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	raw, err := unescaped("path", in.Path)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "access probed", in.Host, in.Account+" at "+in.Path)
	r, err := sc.ask(ctx,
		wire.Question{Kind: wire.AskProbe, Path: pathname.Path(raw), Account: in.Account}, waitForAnswer)
	if err != nil {
		return nil, err
	}

	out, err := inquiry.Compare(sc.Origin(), *r.Found, in.Account, r.Tries)
	if err == nil && out.Differ {
		s.log.Error("computed access differs from the host's own answer: an error of this program", "host",
			in.Host, "repeat", out.Repeat)
	}

	return &out, refuse(err)
}

// ShowAccountRequest is the request of [App.ShowAccount].
type ShowAccountRequest struct {
	Host     string `query:"host" maxLength:"64"`
	Snapshot string `query:"snapshot" maxLength:"16"`
	Name     string `path:"name" maxLength:"256"`
}

// ShowAccount returns who an account is on a host, and which groups it belongs to.
func (s *App) ShowAccount(ctx context.Context, in *ShowAccountRequest) (*wire.Account, error) {
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
	return &out, refuse(err)
}

// ListAccountsRequest is the request of [App.ListAccounts].
type ListAccountsRequest struct {
	Host     string `query:"host" maxLength:"64" doc:"As this host told last"`
	Snapshot string `query:"snapshot" maxLength:"16"`
}

// ListAccounts returns the accounts and groups that a host told of last, or with a snapshot.
func (s *App) ListAccounts(ctx context.Context, in *ListAccountsRequest) (*names, error) {
	var d *perm.Directory
	if in.Snapshot != "" {
		st, err := s.stored(ctx, in.Snapshot)
		if err != nil {
			return nil, err
		}
		d = st.dir
	} else {
		var err error
		if d, _, err = s.store.HostDirectory(ctx, in.Host); err != nil {
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

	return &out, nil
}
