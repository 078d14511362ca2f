package ace

import (
	"errors"
	"fmt"
	"strings"
)

// Flags say whom an entry is for, and where it came from (MS-DTYP 2.4.4.1).
type Flags uint8

// The flags.
const (
	ObjectInherit    Flags = 1 << iota // files in the folder get it
	ContainerInherit                   // folders in it get it
	NoPropagate                        // and hand it no further
	InheritOnly                        // it does not count here
	Inherited                          // it came from above

	Heritable = ObjectInherit | ContainerInherit
	Passed    = Heritable | NoPropagate | InheritOnly
)

// The words of what an entry reaches, in the order in which they are written.
const (
	reachHere    = "here"    // the folder itself
	reachFolders = "folders" // the folders below it
	reachFiles   = "files"   // the files below it
	reachOnce    = "once"    // of those below, the ones directly in it alone
	reachNothing = "nothing"
)

// ReachesAll is what an entry of a folder reaches where nothing else is said.
const ReachesAll = reachHere + ", " + reachFolders + ", " + reachFiles

// Reaches returns what an entry of a folder with these flags applies to (MS-DTYP 2.4.4.1), as a list of words: any of
// here, folders and files, and once if only what is directly in the folder inherits it; or nothing.
func (f Flags) Reaches() string {
	var words []string
	if f&InheritOnly == 0 {
		words = append(words, reachHere)
	}

	if f&ContainerInherit != 0 {
		words = append(words, reachFolders)
	}

	if f&ObjectInherit != 0 {
		words = append(words, reachFiles)
	}

	if f&NoPropagate != 0 && f&Heritable != 0 {
		words = append(words, reachOnce)
	}

	if len(words) == 0 {
		return reachNothing
	}

	return strings.Join(words, ", ")
}

// ParseReach reads what Reaches gives, in any order. Each word may stand there once.
func ParseReach(text string) (Flags, error) {
	f := InheritOnly
	text = strings.TrimSpace(text)
	if text == reachNothing {
		return f, nil
	}

	seen := map[string]bool{}
	for word := range strings.SplitSeq(text, ",") {
		word = strings.TrimSpace(word)
		if seen[word] {
			return 0, fmt.Errorf("%q stands there twice", word)
		}

		seen[word] = true

		switch word {
		case reachHere:
			f &^= InheritOnly
		case reachFolders:
			f |= ContainerInherit
		case reachFiles:
			f |= ObjectInherit
		case reachOnce:
			f |= NoPropagate
		default:
			return 0, fmt.Errorf(
				"%q is nothing that an entry reaches: want any of here, folders and files, and once where only what "+
					"is directly in the folder is meant",
				word)
		}
	}

	if f&NoPropagate != 0 && f&Heritable == 0 {
		return 0, errors.New("once goes with folders or files")
	}

	return f, nil
}
