package engine

import (
	"fmt"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

// Whoever has an account on a host can make as many kinds of change, for as many accounts, as there are paths: what is
// told of them is bounded, what is left out is counted, and summing it up takes no longer for each.
func TestAffected(t *testing.T) {
	const many = 300_000
	groups := make([]wire.PlanGroup, many)
	for i := range groups {
		groups[i] = wire.PlanGroup{Count: 1, Effect: perm.Effect{
			Opens:  []perm.Gain{{Who: fmt.Sprint("u", i), Rights: []string{"read"}}},
			Closes: []perm.Gain{{Who: "crew", Group: i%2 == 0, Rights: []string{"read", "write"}}},
		}}
	}
	groups[7].Count = 5
	began := time.Now()
	gains, losses, moreGains, moreLosses := affected(groups)
	if len(gains) != maxForeseenAffected || moreGains != many-maxForeseenAffected || gains[0].Who != "u7" {
		t.Errorf("%d gain, %d more, first %+v", len(gains), moreGains, gains[0])
	}
	if len(losses) != 2 || moreLosses != 0 || losses[0].Group || losses[0].Paths != many/2+4 {
		t.Errorf("%+v, %d more", losses, moreLosses)
	}
	if took := time.Since(began); took > 20*time.Second { // squared it takes minutes
		t.Errorf("it took %s", took)
	}
}
