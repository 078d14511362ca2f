package posix

import (
	"errors"
	"fmt"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// ListText is an access list in every way of writing it.
type ListText struct {
	Short    string     `json:"short" doc:"POSIX.1e short text form"`
	Long     string     `json:"long" doc:"POSIX.1e long text form, with a remark where the mask takes something away"`
	Mode     string     `json:"mode" doc:"What a listing shows as the mode: the group digit is the mask"`
	Letters  string     `json:"letters"`
	Lines    []ListLine `json:"lines"`
	Defaults []ListLine `json:"defaults,omitempty"`
	Notes    []string   `json:"notes,omitempty"`
}

// ListLine is one entry and what of it counts.
type ListLine struct {
	Text      string `json:"text"`
	Rights    string `json:"rights"`
	Effective string `json:"effective"`
}

// ids lets names stand for themselves where no host is asked: each gets a number, and gets its name back when it is
// written.
type ids struct {
	names   map[uint32]string
	numbers map[string]uint32
}

func (n *ids) find(_ posixacl.Tag, name string) (uint32, bool) {
	for _, c := range name {
		if c < '0' || c > '9' {
			if n.numbers[name] == 0 {
				n.numbers[name] = posixacl.NoID - 2 - uint32(len(n.numbers))
				n.names[n.numbers[name]] = name
			}
			return n.numbers[name], true
		}
	}
	return 0, false // a number stands for itself
}

func (n *ids) name(_ posixacl.Tag, id uint32) string { return n.names[id] }

// ExplainList reads an access list's text and writes it in every form; with a mode, what changing
// the path's mode to it makes of the list.
func ExplainList(text string, chmod *mode.Mode) (ListText, error) {
	n := &ids{map[uint32]string{}, map[string]uint32{}}
	access, defaults, err := posixacl.ParseText(text, n.find)
	if err != nil {
		return ListText{}, err
	}

	var out ListText
	if access != nil {
		m := access.Mode(0)
		if chmod != nil {
			access, m = access.Chmod(*chmod), *chmod
			out.Notes = append(out.Notes, chmodNote(access))
		}

		out.Mode, out.Letters = m.String(), m.Letters()
		switch mask, masked := access.Find(posixacl.Mask, posixacl.NoID); {
		case masked && mask == 0:
			out.Notes = append(out.Notes,
				"The mask is empty: Linux passes over the whole list, and whoever is neither the owner nor in the "+
					"owning group gets what others get, entries that keep somebody out included.")
		case masked:
			out.Notes = append(out.Notes, fmt.Sprintf("The group digit of the mode, %d, is the mask.", m.Group()))
		}
	} else if chmod != nil {
		return ListText{}, errors.New("a change of mode does nothing to default entries: give access entries")
	}

	if defaults != nil {
		out.Notes = append(out.Notes,
			"Default entries count for what is made in the folder later; the folder itself is not opened or "+
				"closed by them.")
	}

	long := access.Long(n.name)
	for _, e := range defaults {
		long += "default:" + e.Text(n.name) + "\n"
	}

	out.Long, out.Short = long, access.Short(n.name)
	lines := func(l posixacl.List) (out []ListLine) {
		for _, e := range l {
			out = append(out, ListLine{e.Text(n.name), e.Perm.String(), l.Effective(e).String()})
		}
		return out
	}

	out.Lines, out.Defaults = lines(access), lines(defaults)
	if out.Lines == nil {
		out.Lines = []ListLine{}
	}

	return out, nil
}

func chmodNote(l posixacl.List) string {
	if _, masked := l.Find(posixacl.Mask, posixacl.NoID); masked {
		return "Changing the mode set the owner's and the others' entries, and the mask by the group digit; the " +
			"owning group's own entry stayed as it was."
	}
	return "Changing the mode set the three entries: without a mask there is nothing else to set."
}

// FolderWith is the state of a folder whose mode and default entries are given, as text, with the
// names that stand in them.
func FolderWith(m mode.Mode, defaults string) (perm.Set, *perm.Directory, error) {
	p := State{Mode: m}
	n := &ids{map[uint32]string{}, map[string]uint32{}}
	if defaults != "" {
		access, list, err := posixacl.ParseText(defaults, n.find)
		if err != nil {
			return perm.Set{}, nil, err
		}
		if access != nil && list != nil {
			return perm.Set{}, nil, errors.New(
				"give default entries alone: with default: in front of each, or without it at all")
		}

		p.Default = append(list, access...)
	}

	d := &perm.Directory{}
	for id, name := range n.names {
		d.Accounts = append(d.Accounts, perm.Account{ID: unixid.UID(id), Name: name})
		d.Groups = append(d.Groups, perm.Account{ID: unixid.GID(id), Name: name})
	}

	return p.Set(), d.Index(), nil
}
