package roster

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
)

// check returns what keeps a roster from being one.
func (r Roster) check() error {
	switch {
	case r.Edition < 1 || (r.Edition == 1) != r.Before.IsZero():
		return errors.New("the first edition follows on nothing, and every other one on the one before")
	case !r.Made.Before(r.Until):
		return errors.New("it has to be good for some time")
	case len(r.People) > maxPeople || len(r.Recovery) > maxKeys || len(r.Origins) > maxOrigins ||
		len(r.Approvals) > maxRights:
		return errors.New("it has more people, keys, origins or lines about approvals than it may")
	}

	return cmp.Or(r.checkThresholds(), r.checkSite(), r.checkApprovals(), r.checkPeople())
}

func (r Roster) checkThresholds() error {
	switch {
	case r.Threshold < leastTwo || r.Threshold > len(r.People):
		return fmt.Errorf("the threshold is %d: it takes %d people at the least, and there are %d", r.Threshold,
			leastTwo,
			len(r.People))
	case r.Recover < 0 || r.Recover == 1 || r.Recover > len(r.Recovery) || (r.Recover == 0) != (len(r.Recovery) == 0):
		return fmt.Errorf("of %d recovery keys %d are to be enough: want none, or %d at the least", len(r.Recovery),
			r.Recover, leastTwo)
	}
	return nil
}

func (r Roster) checkSite() error {
	for _, o := range r.Origins {
		if err := origin(o); err != nil {
			return fmt.Errorf("origin %.60q: %w", o, err)
		}
	}
	if r.Site != "" && !statement.Name(r.Site) || (r.Site == "") != (len(r.Origins) == 0) {
		return errors.New("a site has a name, and origins from which people sign")
	}
	return nil
}

func (r Roster) checkApprovals() error {
	every := false
	for _, a := range r.Approvals {
		if a.Application != Everything && !statement.Name(a.Application) {
			return fmt.Errorf("%.60q is no application", a.Application)
		}
		if a.People < 1 || a.People >= len(r.People) {
			return fmt.Errorf("%d people are to approve plans of %s: want 1 at the least, and fewer than there are",
				a.People,
				a.Application)
		}
		every = every || a.Application == Everything
	}
	if !every {
		return errors.New("it does not say how many people have to approve plans: approvals: * 1")
	}
	return inOrder("applications", r.Approvals, func(a Approvals) string { return a.Application })
}

// checkPeople checks people and keys. A key is one person's, and stands there once: somebody with two names is two.
func (r Roster) checkPeople() error {
	owner := map[signature.Key]string{}
	own := func(who string, keys []NamedKey) error {
		for _, k := range keys {
			switch {
			case !statement.Name(k.Name):
				return fmt.Errorf("%.60q is no name for a key", k.Name)
			case k.Key.Kind() == signature.WebAuthn && r.Site == "":
				return fmt.Errorf("the key %s of %s is for a site, and the roster names none", k.Name, who)
			case owner[k.Key] != "":
				return fmt.Errorf("the key %s of %s is one of %s, too", k.Name, who, owner[k.Key])
			}
			owner[k.Key] = who
		}
		return inOrder("keys", keys, func(k NamedKey) string { return k.Name })
	}

	if err := own("nobody in particular", r.Recovery); err != nil {
		return err
	}
	for _, p := range r.People {
		if !statement.Name(p.Name) || len(p.Keys) == 0 || len(p.Keys) > maxKeys || len(p.Rights) > maxRights {
			return fmt.Errorf("%.60q: somebody has a name, 1 to %d keys and at most %d rights", p.Name, maxKeys,
				maxRights)
		}
		if err := own(p.Name, p.Keys); err != nil {
			return err
		}
		if err := checkRights(p.Rights); err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return inOrder("people", r.People, func(p Person) string { return p.Name })
}

func checkRights(list []Right) error {
	for _, r := range list {
		if !slices.Contains(rights, r.Do) {
			return fmt.Errorf("nobody may %.40q: want %s", r.Do, oneOfRights())
		}
		for _, of := range []string{r.Application, r.Host} {
			if of != Everything && !statement.Name(of) {
				return fmt.Errorf("%.60q is neither a name nor *", of)
			}
		}
	}
	return inOrder("rights", list, Right.String)
}

// inOrder returns an error unless what things are known by is in order, each once.
func inOrder[T any](what string, list []T, known func(T) string) error {
	for i := range list {
		if i > 0 && strings.Compare(known(list[i-1]), known(list[i])) >= 0 {
			return fmt.Errorf("the %s are not in order, or one stands twice: %.60q", what, known(list[i]))
		}
	}
	return nil
}

// Sort brings a roster's lists into their order.
func (r *Roster) Sort() {
	slices.Sort(r.Origins)
	byText := func(a, b NamedKey) int { return strings.Compare(a.Name, b.Name) }
	slices.SortFunc(r.Recovery, byText)
	slices.SortFunc(r.Approvals, func(a, b Approvals) int { return strings.Compare(a.Application, b.Application) })
	slices.SortFunc(r.People, func(a, b Person) int { return strings.Compare(a.Name, b.Name) })
	for _, p := range r.People {
		slices.SortFunc(p.Keys, byText)
		slices.SortFunc(p.Rights, func(a, b Right) int { return strings.Compare(a.String(), b.String()) })
	}
}
