package plan

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// Check returns what to be wary of. It goes through the steps, in the order of a walk, as often as it has to.
func (c Checker) Check(each func(visit func(Step) error) error) ([]Caution, error) {
	x := checking{
		Checker:  c,
		found:    map[cautionKey]*Caution{},
		changes:  map[changeKey]changeSeen{},
		then:     map[string]perm.Set{},
		owners:   map[string]*taking{},
		exchange: map[string]exchangers{},
		loose:    map[bool]*exchangers{},
	}

	err := each(x.step)
	if err == nil {
		err = c.lost(x.losses, x.then, x.note)
	}
	if err == nil && c.Way != nil {
		err = c.unreached(each, x.then, x.note)
	}
	if err != nil {
		return nil, err
	}

	x.nameExchangers()
	x.noteTakings()
	return x.cautions(), nil
}

// checking is what was found so far, and what has to be known of earlier steps.
type checking struct {
	Checker
	found    map[cautionKey]*Caution
	changes  map[changeKey]changeSeen
	then     map[string]perm.Set // as it will be: folders, and of the rest so many
	losses   []loss              // of ways, to be followed in the end
	owners   map[string]*taking  // by who will own it
	exchange map[string]exchangers
	loose    map[bool]*exchangers // of steps that do not say which file they mean: by whether that is grave
}

// changeSeen is what one change comes to, wherever it is made.
type changeSeen struct {
	cautions []perm.Caution
	opens    bool
	from, to string // owners
}

// note adds a path to what a caution is about.
func (x *checking) note(path string, w perm.Caution) *Caution {
	if x.found[keyOf(w)] == nil && len(x.found) >= maxCautions { // who makes so many hides nothing grave behind them
		w = more(w.Grave)
	}

	k := keyOf(w)
	noted := x.found[k]
	if noted == nil {
		noted = &Caution{
			Host:    x.Host,
			Kind:    w.Kind,
			Grave:   w.Grave,
			Text:    w.Text,
			Instead: w.Instead,
			Folder:  pathname.Path(pathname.Folder(path)),
			Example: pathname.Path(path),
		}
		if w.Who != "" {
			noted.Account = x.Names.Name(w.Who)
		}
		x.found[k] = noted
	}

	noted.Count++
	noted.Folder = pathname.Widen(noted.Folder, path)
	return noted
}

// change returns what a step's change comes to. Many steps make the same one.
func (x *checking) change(s Step) changeSeen {
	k := changeKey{s.Kind, s.Before, s.After}
	seen, ok := x.changes[k]
	if !ok {
		seen = changeSeen{
			cautions: perm.Cautions(s.Kind, s.Before, s.After, x.Names, x.Matter),
			opens:    len(perm.Between(s.Kind, s.Before, s.After, x.Names).Opens) > 0,
			from:     perm.Describe(s.Kind, s.Before, x.Names).Owner,
			to:       perm.Describe(s.Kind, s.After, x.Names).Owner,
		}
		x.changes[k] = seen
	}
	return seen
}

// step notes what one step makes, and keeps what is needed to say more when all steps are known.
func (x *checking) step(s Step) error {
	seen := x.change(s)
	for _, w := range seen.cautions {
		if w.Kind == perm.CautionWay && x.Below != nil {
			x.losses = append(x.losses, loss{s.Path, w})
			continue
		}
		if w.Kind == perm.CautionPower && x.Way != nil {
			by, err := x.exchangers(s.Path, x.exchange)
			if err != nil {
				return err
			}
			w.Text += by.String()
		}
		x.note(s.Path, w)
	}

	if x.Identified && s.File.Inode == 0 {
		if err := x.noteUnidentified(s, seen.opens); err != nil {
			return err
		}
	}

	if s.Kind == perm.Folder || len(x.then) < maxThen {
		x.then[s.Path] = s.After
	}

	if seen.from != seen.to {
		if x.owners[seen.to] == nil {
			x.owners[seen.to] = &taking{from: map[string]int{}}
		}
		x.owners[seen.to].add(seen.from, s.Path)
	}

	return nil
}

// noteUnidentified notes a step that does not say which file it means.
func (x *checking) noteUnidentified(s Step, opens bool) error {
	var by exchangers
	if opens && x.Way != nil {
		var err error
		if by, err = x.exchangers(s.Path, x.exchange); err != nil {
			return err
		}
	}

	w := x.unidentified(by.any())
	x.note(s.Path, w)
	if x.loose[w.Grave] == nil {
		x.loose[w.Grave] = &exchangers{}
	}
	x.loose[w.Grave].add(by)
	return nil
}

// nameExchangers says who could exchange what steps do not identify, of all of them together: who owns many folders
// makes no more cautions.
func (x *checking) nameExchangers() {
	for grave, by := range x.loose {
		if noted := x.found[keyOf(x.unidentified(grave))]; noted != nil {
			noted.Text += by.String()
		}
	}
}

// noteTakings notes that paths of several owners will all have one.
func (x *checking) noteTakings() {
	for to, t := range x.owners {
		if len(t.from) < 2 {
			continue
		}
		w := perm.Caution{
			Kind: perm.CautionOwners,
			Text: fmt.Sprintf("paths of %s will all belong to %s", t, to),
			Instead: "narrow the change by owner (where: {owner: …}); each path's own owner is among the " +
				"originals, and a restore gives it back",
		}
		if noted := x.note(t.example, w); noted.Kind == w.Kind {
			noted.Count, noted.Folder = t.n, t.folder
		}
	}
}

// cautions returns what was found, what is grave first, each with an id that it keeps from check to check.
func (x *checking) cautions() []Caution {
	out := make([]Caution, 0, len(x.found))
	for _, c := range x.found {
		sum := sha256.Sum256([]byte(strings.Join([]string{c.Host, c.Kind, c.Account, c.Text, c.Folder.String()},
			"\x00")))
		c.ID = hex.EncodeToString(sum[:6])
		out = append(out, *c)
	}

	slices.SortFunc(out, func(a, b Caution) int {
		if a.Grave != b.Grave {
			if a.Grave {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), pathname.Compare(string(a.Folder), string(b.Folder)),
			cmp.Compare(a.Account, b.Account), cmp.Compare(a.Text, b.Text))
	})

	return out
}
