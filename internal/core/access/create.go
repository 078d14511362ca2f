package access

import (
	"fmt"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
)

// Asked is what a program asks for when it makes a path.
type Asked struct {
	Mode  mode.Mode // POSIX: programs ask for 0666 for files and 0777 for folders, as a rule
	Umask mode.Mode // POSIX: of the process
	Mount Mount     // that the folder lies on
}

// Made is what comes of it.
type Made struct {
	Set   perm.Set
	Notes []string
}

// New says what a file or folder gets that a subject makes in a folder.
func New(folder perm.Set, k perm.Kind, s Subject, asked Asked, d *perm.Directory) (Made, error) {
	if k != perm.File && k != perm.Folder {
		return Made{}, fmt.Errorf("what a new %s gets is not computed: ask about a file or a folder", k)
	}
	if parent, ok := nt.Of(folder); ok {
		return newOnShare(&parent, k, s, d)
	}
	f, err := posix.Of(folder)
	if err != nil {
		return Made{}, err
	}

	p := posix.State{UID: newPOSIXAsker(s).who.UID, Mode: asked.Mode & 0o777}
	if len(s.Groups) > 0 {
		p.GID, _ = posix.Number(s.Groups[0])
	}

	var m Made
	switch fs := asked.Mount.GroupOfFolder; {
	// XFS goes by the folder's set-group-ID first, the others by the option alone.
	case fs != "" && (fs != "xfs" || f.Mode&mode.SetGID == 0):
		p.GID = f.GID
		m.Notes = append(m.Notes,
			"group "+d.Name(posix.GID(f.GID))+
				": the file system is mounted so that new paths get their folder's group (grpid)")
	case f.Mode&mode.SetGID != 0:
		p.GID = f.GID
		m.Notes = append(m.Notes, "group "+d.Name(posix.GID(f.GID))+": the folder has set-group-ID")
		if k == perm.Folder {
			p.Mode |= mode.SetGID
			m.Notes = append(m.Notes, "set-group-ID is passed on to folders")
		}
	default:
		m.Notes = append(m.Notes,
			"group "+d.Name(posix.GID(p.GID))+
				": the primary group of who makes it, since the folder has no set-group-ID")
	}

	if f.Default != nil {
		p.Access, p.Mode = f.Default.Inherit(p.Mode)
		if k == perm.Folder {
			p.Default = f.Default
		}
		m.Notes = append(m.Notes,
			fmt.Sprintf(
				"entries come from the folder's default entries; the program asks for %s and the umask has "+
					"no part in it",
				asked.Mode))
	} else {
		p.Mode &^= asked.Umask & 0o777
		m.Notes = append(m.Notes,
			fmt.Sprintf("mode: the program asks for %s, the umask %s takes its bits away", asked.Mode, asked.Umask))
	}

	m.Set = p.Set()
	return m, nil
}
