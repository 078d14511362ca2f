// Package ace holds the vocabulary of access control entries: rights, as the mask of an entry holds them, and what an
// entry of a folder reaches, as its flags say. Both have words that baselines are written in. The bits are those of
// MS-DTYP 2.4.3 and 2.4.4.1; RFC 8881 section 6.2.1 gives the same ones to the rights of NFSv4.
//
//	m, _ := ace.ParseMask("read, execute")
//	m.Words(true) // "read, traverse": on a folder, to execute is to traverse it
//	f, _ := ace.ParseReach("here, files")
//	f.Reaches() // "here, files"
package ace

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Mask is rights to a file or folder (MS-DTYP 2.4.3, MS-SMB2 2.2.13.1).
type Mask uint32

// The single rights. The first three mean other things on a folder.
const (
	ReadData        Mask = 1 << iota // list a folder
	WriteData                        // add files
	AppendData                       // add folders
	ReadExtended                     // read extended attributes
	WriteExtended                    // write them
	Execute                          // pass through a folder
	DeleteChild                      // delete what is in a folder, whatever its own list says
	ReadAttributes                   // read attributes
	WriteAttributes                  // write them
)

// The standard rights, and the ones that stand for others.
const (
	Delete      Mask = 0x0001_0000
	ReadControl Mask = 0x0002_0000 // read permissions
	WriteDAC    Mask = 0x0004_0000 // change permissions
	WriteOwner  Mask = 0x0008_0000 // take ownership
	Synchronize Mask = 0x0010_0000

	SystemSecurity Mask = 0x0100_0000
	MaximumAllowed Mask = 0x0200_0000
	GenericAll     Mask = 0x1000_0000
	GenericExecute Mask = 0x2000_0000
	GenericWrite   Mask = 0x4000_0000
	GenericRead    Mask = 0x8000_0000
)

// What the generic rights stand for on files and folders (MS-SMB2 2.2.13.1), and the sets that people speak of.
const (
	FileRead    = ReadControl | Synchronize | ReadData | ReadExtended | ReadAttributes
	FileWrite   = ReadControl | Synchronize | WriteData | AppendData | WriteExtended | WriteAttributes
	FileExecute = ReadControl | Synchronize | ReadAttributes | Execute

	Full     Mask = 0x001F_01FF
	ReadSet       = FileRead
	WriteSet      = Synchronize | WriteData | AppendData | WriteExtended | WriteAttributes
)

// Map replaces generic rights by what they stand for.
func (m Mask) Map() Mask {
	for _, g := range []struct{ generic, means Mask }{
		{GenericAll, Full},
		{GenericRead, FileRead},
		{GenericWrite, FileWrite},
		{GenericExecute, FileExecute},
	} {
		if m&g.generic != 0 {
			m = m&^g.generic | g.means
		}
	}
	return m
}

// named are the sets that have names, larger ones before smaller ones.
var named = []struct {
	name string
	mask Mask
}{{"full", Full}, {"read", ReadSet}, {"write", WriteSet}}

// single are single rights on a file and on a folder.
var Single = []struct {
	Mask         Mask
	file, folder string
}{
	{ReadData, "read-data", "list-folder"},
	{WriteData, "write-data", "add-files"},
	{AppendData, "append-data", "add-folders"},
	{ReadExtended, "read-extended", "read-extended"},
	{WriteExtended, "write-extended", "write-extended"},
	{Execute, "execute", "traverse"},
	{DeleteChild, "delete-children", "delete-children"},
	{ReadAttributes, "read-attributes", "read-attributes"},
	{WriteAttributes, "write-attributes", "write-attributes"},
	{Delete, "delete", "delete"},
	{ReadControl, "read-permissions", "read-permissions"},
	{WriteDAC, "change-permissions", "change-permissions"},
	{WriteOwner, "take-ownership", "take-ownership"},
	{Synchronize, "synchronize", "synchronize"},
	{SystemSecurity, "system-security", "system-security"},
	{MaximumAllowed, "maximum-allowed", "maximum-allowed"},
	{GenericAll, "generic-all", "generic-all"},
	{GenericExecute, "generic-execute", "generic-execute"},
	{GenericWrite, "generic-write", "generic-write"},
	{GenericRead, "generic-read", "generic-read"},
}

// Words writes rights as people read them: named sets first, then single rights, which have other names on a folder.
// A right without a name is written as a number.
func (m Mask) Words(folder bool) string {
	if m == 0 {
		return "nothing"
	}

	var out []string
	rest := m
	for _, n := range named {
		if m&n.mask == n.mask && rest&n.mask&^Synchronize != 0 { // and says more than the ones before
			out = append(out, n.name)
			rest &^= n.mask
		}
	}

	if len(out) > 0 {
		rest &^= Synchronize
	}

	for _, s := range Single {
		if rest&s.Mask != 0 {
			name := s.file
			if folder {
				name = s.folder
			}

			out = append(out, name)
			rest &^= s.Mask
		}
	}

	if rest != 0 {
		out = append(out, fmt.Sprintf("0x%x", uint32(rest)))
	}

	return strings.Join(out, ", ")
}

// ParseMask reads what Words writes, in any order.
func ParseMask(text string) (Mask, error) {
	var m Mask
	text = strings.TrimSpace(text)
	if text == "nothing" {
		return 0, nil
	}

	for word := range strings.SplitSeq(text, ",") {
		word = strings.TrimSpace(word)
		if i := slices.IndexFunc(named, func(n struct {
			name string
			mask Mask
		}) bool {
			return n.name == word
		}); i >= 0 {
			m |= named[i].mask
			continue
		}

		found := false
		for _, s := range Single {
			if s.file == word || s.folder == word {
				m, found = m|s.Mask, true
			}
		}

		if found {
			continue
		}

		hex, ok := strings.CutPrefix(word, "0x")
		n, err := strconv.ParseUint(hex, 16, 32)
		if !ok || err != nil {
			return 0, fmt.Errorf(
				"right %q is unknown: want full, read, write, a single right such as execute or list-folder, or a "+
					"number such as 0x20",
				word)
		}

		m |= Mask(n)
	}

	return m, nil
}
