package fileserver

import (
	"fmt"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
)

// A tried operation is one or two opens with exactly the rights that it takes. They leave nothing behind.
type opens struct {
	folder bool // opens the folder that it is in, too, to add it there
	on     ace.Mask
}

var tries = map[access.Operation]opens{
	access.Read: {on: ace.ReadData}, access.List: {on: ace.ReadData}, access.Write: {on: ace.WriteData},
	access.CreateFile: {on: ace.WriteData}, access.CreateFolder: {on: ace.AppendData},
	access.Execute: {on: ace.Execute},
	access.Delete:  {on: ace.Delete}, access.Rename: {folder: true, on: ace.Delete},
	access.Change: {on: ace.WriteDAC}, access.Own: {on: ace.WriteOwner},
}

// Try has somebody who is signed in open something for each operation.
func Try(s Share, below string, k perm.Kind) (out []access.Try, err error) {
	folder := folderOf(below)
	open := func(name, as string, right ace.Mask) (string, bool, error) {
		call := fmt.Sprintf("open %s for %s", as, right.Words(k == perm.Folder || name == folder && as == "its folder"))
		h, err := s.Hold(name, right)
		switch {
		case err == nil:
			return call, true, h.Close()
		case Refused(err):
			return call + ": the server denies access", false, nil
		}

		return call, false, err
	}

	marked := false
	if seen, err := Look(s, below); err == nil { // who may not look finds out by trying
		marked = seen.ReadOnly
	}

	for _, op := range access.For(k, nt.ID) {
		t := access.Try{Operation: op}
		o, ok := tries[op]
		switch {
		case op == access.Enter:
			t.Untried = "passing through takes no right of its own on a share"
		case !ok:
			t.Untried = "there is nothing to try"
		case below == "" && (op == access.Delete || op == access.Rename):
			t.Untried = "it is the share itself"
		case op == access.Delete && marked:
			t.Untried = "it is marked as read-only, which only deleting it would try"
		default:
			if t.Call, t.Allowed, err = open(below, "it", o.on); err != nil {
				return nil, err
			}
			if o.folder && t.Allowed {
				var also string
				if also, t.Allowed, err = open(folder, "its folder", nt.Adding(k)); err != nil {
					return nil, err
				}
				t.Call += ", " + also
			}
		}

		out = append(out, t)
	}

	return out, nil
}
