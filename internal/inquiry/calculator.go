package inquiry

import (
	"context"
	"fmt"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/unixid"
	"idletally/internal/wire"
)

// ParseMode reads octal digits, the nine letters of a listing (ten with the kind in front), or a symbolic mode that
// starts from nothing.
func ParseMode(s string) (mode.Mode, error) {
	letters := s
	if len(s) == 10 && strings.ContainsRune("-dlbcps", rune(s[0])) {
		letters = s[1:]
	}
	if len(letters) == 9 && !strings.ContainsAny(letters, "=+,") {
		return mode.ParseLetters(letters)
	}
	if s != "" && s[0] >= '0' && s[0] <= '9' {
		return mode.ParseOctal(s)
	}
	c, err := mode.ParseChange(s)
	if err != nil {
		return 0, fmt.Errorf("%w; or give octal digits, or nine letters", err)
	}
	return c.Apply(0, false, 0), nil
}

// A ModeAsk is a mode and what to do with it.
type ModeAsk struct {
	Mode   string
	Change string // symbolic; "" is none
	Folder bool   // it is a folder's mode: counts for a change
	Umask  string // of who makes the change: counts where a clause names nobody
	Limits string
}

// Mode explains a mode.
func Mode(ask ModeAsk) (wire.Mode, error) {
	m, err := ParseMode(ask.Mode)
	if err != nil {
		return wire.Mode{}, err
	}

	if ask.Change != "" {
		c, err := mode.ParseChange(ask.Change)
		if err != nil {
			return wire.Mode{}, err
		}
		u, err := mode.ParseOctal(ask.Umask)
		if err != nil {
			return wire.Mode{}, fmt.Errorf("umask: %w", err)
		}

		m = c.Apply(m, ask.Folder, u)
	}

	out := wire.Mode{
		Octal:      m.String(),
		Letters:    m.Letters(),
		Symbolic:   m.Symbolic(),
		Arithmetic: m.Arithmetic(),
		File:       m.Words(false),
		Folder:     m.Words(true),
	}

	if ask.Limits != "" {
		l, err := mode.ParseLimits(ask.Limits)
		if err != nil {
			return wire.Mode{}, err
		}

		out.Broken = l.Broken(m)
		if len(out.Broken) > 0 {
			out.Mended = l.Mend(m).String()
		}

		out.Kept = len(out.Broken) == 0
	}

	return out, nil
}

// New returns what a file and a folder get that are made in a folder with a mode and perhaps default entries, by a
// process with a umask.
func New(in, defaults, umask string) ([]wire.New, error) {
	f, err := ParseMode(in)
	if err != nil {
		return nil, fmt.Errorf("folder: %w", err)
	}
	u, err := mode.ParseOctal(umask)
	if err != nil {
		return nil, fmt.Errorf("umask: %w", err)
	}
	folder, d, err := posix.FolderWith(f, defaults)
	if err != nil {
		return nil, err
	}

	// Nobody in particular makes them, in a folder of nobody's: only the rights are asked for.
	d.Groups = append(d.Groups, perm.Account{ID: unixid.GID(0), Name: "of the folder"}, perm.Account{
		ID:   unixid.GID(1),
		Name: "of the process",
	})
	d.Accounts = append(d.Accounts, perm.Account{ID: unixid.UID(1), Name: "of the process"})
	d.Index()
	maker := access.Subject{ID: unixid.UID(1), Groups: []perm.Principal{unixid.GID(1)}}
	return made(folder, access.Mount{}, maker, u, d)
}

// made returns what a file and a folder get that somebody makes in a folder.
func made(
	folder perm.Set, on access.Mount, maker access.Subject, umask mode.Mode, d *perm.Directory,
) ([]wire.New, error) {
	var out []wire.New
	for _, x := range []struct {
		kind perm.Kind
		asks mode.Mode
	}{{perm.File, 0o666}, {perm.Folder, 0o777}} {
		m, err := access.New(folder, x.kind, maker, access.Asked{Mode: x.asks, Umask: umask, Mount: on}, d)
		if err != nil {
			return nil, err
		}

		v := perm.Describe(x.kind, m.Set, d)
		n := wire.New{
			Kind:    x.kind.String(),
			Mode:    v.Mode,
			Letters: v.Letters,
			Owner:   v.Owner,
			Group:   v.Group,
			Notes:   m.Notes,
		}

		n.Entries = append(n.Entries, v.Entries...)
		for _, e := range v.Defaults {
			n.Entries = append(n.Entries, "default:"+e)
		}

		out = append(out, n)
	}

	return out, nil
}

// NewIn returns what an account's new files and folders get in an existing folder.
func NewIn(ctx context.Context, sc Source, path, account, umask string) (wire.Fresh, error) {
	u, err := mode.ParseOctal(umask)
	if err != nil {
		return wire.Fresh{}, fmt.Errorf("%w: umask: %w", ErrBad, err)
	}
	f, err := sc.Path(ctx, path, named(account)...)
	if err != nil {
		return wire.Fresh{}, err
	}

	d := f.Directory
	out := wire.Fresh{Origin: sc.Origin(), Path: f.Seen.Path.String(), Umask: u.String()}
	if f.Seen.Kind != perm.Folder {
		return out, fmt.Errorf("%w: %s is a %s: new paths are made in folders", ErrBad, f.Seen.Path, f.Seen.Kind)
	}
	if account == Everyone {
		return out, fmt.Errorf("%w: what is made has an owner: give an account", ErrBad)
	}
	if out.Account, err = AccountOf(d, account); err != nil {
		return out, err
	}
	who, err := Subject(d, account)
	if err != nil {
		return out, err
	}

	asker := access.NewAsker(who)
	if a := asker.May(f.Way, access.Create, d); !a.Allowed {
		out.Refused = a.Reason
	}

	if f.Seen.Set.IsZero() {
		return out, fmt.Errorf("%w: the permissions of %s could not be read", ErrBad, f.Seen.Path)
	}
	if out.Made, err = made(f.Seen.Set, f.Seen.Mount, who, u, d); err != nil || out.Refused != "" {
		return out, err
	}

	for i := range out.Made {
		n, op := &out.Made[i], access.CreateFile
		if n.Kind == perm.Folder.String() {
			op = access.CreateFolder
		}
		if a := asker.May(f.Way, op, d); !a.Allowed {
			n.Notes = append([]string{"it cannot be made there: " + a.Reason}, n.Notes...)
		}
	}

	return out, nil
}

// ListText is an access list in every way of writing it.
type ListText = posix.ListText

// Entries explains an access list, as it is or after a change of its path's mode.
func Entries(text, chmod string) (ListText, error) {
	if chmod == "" {
		return posix.ExplainList(text, nil)
	}
	m, err := ParseMode(chmod)
	if err != nil {
		return ListText{}, err
	}
	return posix.ExplainList(text, &m)
}
