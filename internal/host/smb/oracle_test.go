//go:build linux

package smb

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/seeded"
)

// An oracle is a folder with a file and a folder in it, and the accounts that try there what the core answers.
type oracle struct {
	t      *testing.T
	r      *rand.Rand
	keeper *Share
	people []*Share // signed in as those whose tokens these are
	names  []string
	tokens []ntsd.Token
	world  []ntsd.SID

	states map[string]ntsd.Descriptor
	kinds  map[string]perm.Kind
	marks  map[string]bool // as read-only
}

// tally is what came of the questions.
type tally struct{ asked, allowed, known, differ atomic.Int64 }

// What the core answers for whole operations is what the server lets an account do: making and renaming by
// kind, deleting by the path's list or the folder's. IDLETALLY_ORACLE says how many questions to ask.
//
// One difference is known, and told with the answer: this server does not ask who owns the folder in which
// something is made, so that entries for owner rights do not count there.
func TestOracle(t *testing.T) {
	questions := int64(10_000)
	if said := os.Getenv("IDLETALLY_ORACLE"); said != "" {
		n, err := strconv.ParseInt(said, 10, 64)
		must(t, err)
		questions = n
	}

	seed := seeded.Rand(t).Uint64()
	names, tokens, world := people(t)
	var sum tally
	var all sync.WaitGroup

	for hand := range 4 {
		o := &oracle{
			t:      t,
			r:      rand.New(rand.NewPCG(seed, uint64(hand))),
			keeper: dial(t, "keeper", "charts"),
			names:  names,
			tokens: tokens,
			world:  world,
			states: map[string]ntsd.Descriptor{},
			kinds:  map[string]perm.Kind{},
			marks:  map[string]bool{},
		}
		for _, n := range names {
			o.people = append(o.people, dial(t, n, "charts"))
		}
		all.Go(func() {
			base := fmt.Sprintf("oracle-%d", hand)
			err := o.keeper.s.Mkdir(base, 0o777)
			for err == nil && sum.asked.Load() < questions && sum.differ.Load() < 20 {
				err = o.round(base, &sum)
			}

			if err != nil {
				t.Error(err)
			}
		})
	}

	all.Wait()
	t.Logf("%d questions, %d allowed, %d known differences, %d others", sum.asked.Load(), sum.allowed.Load(),
		sum.known.Load(), sum.differ.Load())
	if a := sum.allowed.Load(); a*20 < questions || a > questions*9/10 || sum.asked.Load() < questions {
		t.Error("too little was tried")
	}
}

// round asks everything once, of lists made at random.
func (o *oracle) round(base string, sum *tally) error {
	folder := base + `\p`
	o.kinds = map[string]perm.Kind{folder: perm.Folder, folder + `\f`: perm.File, folder + `\d`: perm.Folder}
	for _, name := range []string{folder, folder + `\f`, folder + `\d`} {
		if err := o.make(name); err != nil {
			return err
		}

		d := ntsd.Descriptor{
			Owner:   o.tokens[o.r.IntN(len(o.tokens))].User,
			Control: ntsd.Protected,
			Entries: randomList(o.r, o.world),
		}
		if o.r.IntN(20) == 0 {
			d.Entries = nil
		}

		if err := o.set(name, d); err != nil {
			return err
		}
		o.states[name] = d
		if err := o.mark(name, o.r.IntN(4) == 0); err != nil {
			return err
		}
	}

	for who := range o.tokens {
		for _, name := range []string{folder, folder + `\f`, folder + `\d`} {
			for _, op := range access.For(o.kinds[name], nt.ID) {
				if op == access.Enter || name == folder && (op == access.Delete || op == access.Rename) {
					continue
				}
				if err := o.ask(who, name, op, sum); err != nil {
					return err
				}
			}
		}
	}

	return nil
}

// mark marks something as read-only, or takes that off.
func (o *oracle) mark(name string, on bool) error {
	o.marks[name] = on
	return o.keeper.s.Chmod(name, map[bool]os.FileMode{true: 0o444, false: 0o666}[on])
}

// make makes something as the keeper where it is not there.
func (o *oracle) make(name string) error {
	if _, err := o.keeper.Look(name); !fileserver.Gone(err) {
		return err
	}
	if o.kinds[name] == perm.File {
		return o.keeper.s.WriteFile(name, nil, 0o666)
	}
	return o.keeper.s.Mkdir(name, 0o777)
}

func (o *oracle) set(name string, d ntsd.Descriptor) error {
	return put(o.keeper, name, d, fileserver.SetOwner|fileserver.SetList)
}

// ask has the core answer and the account try.
func (o *oracle) ask(who int, name string, op access.Operation, sum *tally) error {
	way := access.Way{
		{Path: "/", Kind: perm.Folder, Set: o.nt(ntsd.Descriptor{Open: true})},
		{Path: "/charts", Kind: perm.Folder, Set: o.nt(ntsd.Descriptor{Owner: ntsd.System})},
	}
	for i := range name {
		if name[i] == '\\' {
			way = append(way, o.place(name[:i]))
		}
	}

	way = append(way, o.place(name))
	token := o.tokens[who]
	subject := access.Subject{ID: nt.PrincipalOf(token.User)}
	subject.Held = []access.Holding{{Privileges: token.Privileges, By: subject.ID}}
	for _, g := range token.Groups {
		subject.Groups = append(subject.Groups, nt.PrincipalOf(g))
	}

	answer := access.NewAsker(subject).May(way, op, nil)
	done, err := o.try(who, name, op)
	if err != nil {
		return fmt.Errorf("%s: %s %s: %w", o.names[who], op, name, err)
	}

	sum.asked.Add(1)
	if done {
		sum.allowed.Add(1)
	}

	switch {
	case done == answer.Allowed:
	case slices.ContainsFunc(answer.Notes, func(n string) bool {
		return strings.Contains(n, "owner rights: Samba passes over it")
	}):
		sum.known.Add(1)
	case sum.differ.Add(1) < 20:
		var lists string
		for _, p := range way[2:] {
			d, _ := nt.Of(p.Set)
			text, _ := d.SDDL()
			lists += "\n" + string(p.Path) + " " + text
		}
		o.t.Errorf("%s, %s: %s: the server says %t, the core %t: %s%s", o.names[who], token.User, op.Words(), done,
			answer.Allowed, answer.Reason, lists)
	}

	return nil
}

func (o *oracle) nt(d ntsd.Descriptor) perm.Set {
	s, err := nt.SetOf(d)
	if err != nil {
		o.t.Error(err)
	}
	return s
}

func (o *oracle) place(name string) access.Place {
	kind, ok := o.kinds[name]
	if !ok {
		kind = perm.Folder
	}
	return access.Place{Path: pathOf(name), Kind: kind, Set: o.nt(o.states[name]), Mark: access.MarkOf(o.marks[name])}
}

// try does something as an account, and undoes it as the keeper.
func (o *oracle) try(who int, name string, op access.Operation) (done bool, err error) {
	s, keeper := o.people[who], o.keeper
	again := func() error { // it is as it was
		if err := o.make(name); err != nil {
			return err
		}
		return errors.Join(o.set(name, o.states[name]), o.mark(name, o.marks[name]))
	}

	undo := func() error { return nil }
	switch op {
	case access.CreateFile:
		err, undo = s.s.WriteFile(name+`\new`, nil, 0o666), func() error { return keeper.s.Remove(name + `\new`) }
	case access.CreateFolder:
		err, undo = s.s.Mkdir(name+`\new`, 0o777), func() error { return keeper.s.Remove(name + `\new`) }
	case access.Delete:
		err, undo = remove(s, name), again
	case access.Rename:
		err, undo = s.s.Rename(name, name+"2"), func() error { return keeper.s.Rename(name+"2", name) }
	default:
		h, e := s.Hold(name,
			map[access.Operation]ace.Mask{
				access.Read:    ace.ReadData,
				access.List:    ace.ReadData,
				access.Write:   ace.WriteData,
				access.Execute: ace.Execute,
				access.Change:  ace.WriteDAC,
				access.Own:     ace.WriteOwner,
			}[op])
		if err = e; err == nil {
			err = h.Close()
		}
	}

	switch {
	case err == nil:
		return true, undo()
	case fileserver.Refused(err):
		return false, nil
	}

	return false, err
}

// remove deletes something in one call: the library's takes the mark off what is read-only.
func remove(s *Share, name string) error {
	f, err := open(s.s, name, ace.Delete, 0)
	if err != nil {
		return explain(err)
	}
	return explain(errors.Join(f.Delete(), f.Close()))
}

func pathOf(name string) pathname.Path {
	return pathname.Path("/charts/" + strings.ReplaceAll(name, `\`, "/"))
}
