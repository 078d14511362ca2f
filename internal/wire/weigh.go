package wire

import (
	"cmp"
	"slices"

	"idletally/internal/core/baseline"
)

// A WeightOf is what groups of findings are put in order by: the gravest first, then those that open
// something, then those on many hosts, then those of many findings.
type WeightOf struct {
	Group    *Group
	Hosts    int
	Findings int64
}

// Heavier orders two groups, as cmp.Compare does: the heavier one comes first.
func Heavier(a, b WeightOf) int {
	grade := func(w WeightOf) int { return slices.Index(baseline.Severities, baseline.Severity(w.Group.Severity)) }
	opens := func(w WeightOf) int {
		if w.Group.Word == "opens" || w.Group.Word == "both" {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(grade(b), grade(a)), cmp.Compare(opens(b), opens(a)), cmp.Compare(b.Hosts, a.Hosts),
		cmp.Compare(b.Findings, a.Findings), cmp.Compare(a.Group.ID, b.Group.ID))
}
