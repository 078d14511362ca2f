package wire

import (
	"time"

	"idletally/internal/core/plan"
	"idletally/internal/core/wish"
)

// Foresee asks what changes would come to.
type Foresee struct {
	Application string      `json:"application" minLength:"1" maxLength:"64"`
	Hosts       []string    `json:"hosts,omitempty" maxItems:"5000" doc:"Where nothing is said all hosts of its published baseline"`
	Wishes      []wish.Wish `json:"wishes" minItems:"1" maxItems:"100" doc:"One after the other"`
}

// Foreseen is what changes would come to, from how the hosts were seen last.
type Foreseen struct {
	Text       string         `json:"text" doc:"The changes, as a plan takes them"`
	Rules      string         `json:"rules,omitempty" doc:"Rules of a baseline that declare what the changes make"`
	NoRules    string         `json:"no_rules,omitempty" doc:"Why no rule can say it"`
	Steps      int            `json:"steps" doc:"Paths that would change"`
	Hosts      []ForeseenHost `json:"hosts" doc:"On which something would change"`
	Groups     []PlanGroup    `json:"groups" doc:"Equal changes, those of most paths first, 200 at the most"`
	MoreGroups int            `json:"more_groups,omitempty" doc:"How many more there are"`
	Gains      []Affected     `json:"gains" doc:"Who could do more, by most paths first, 200 at the most"`
	MoreGains  int            `json:"more_gains,omitempty" doc:"How many more could"`
	Losses     []Affected     `json:"losses" doc:"Who could do less, in the same way"`
	MoreLosses int            `json:"more_losses,omitempty" doc:"How many more could"`
	Left       []Left         `json:"left" doc:"What would stay as it is, and why, 100 at the most"`
	MoreLeft   int            `json:"more_left,omitempty" doc:"How many more would"`
	Cautions   []plan.Caution `json:"cautions" doc:"What the checker would warn of, the grave ones first"`
}

// ForeseenHost is what is foreseen of one host.
type ForeseenHost struct {
	Host       string     `json:"host"`
	Steps      int        `json:"steps"`
	Snapshot   string     `json:"snapshot" doc:"By which it is foreseen"`
	Taken      *time.Time `json:"taken,omitempty" doc:"When that was taken"`
	Edition    int        `json:"edition,omitempty" doc:"Of the published baseline; 0 where there is none"`
	Mended     int        `json:"mended,omitempty" doc:"Paths that are not as it declares, and would be"`
	Undeclared int        `json:"undeclared,omitempty" doc:"Paths that would not be as it declares: drift from then on"`
}

// Affected is somebody who could do more, or less, by all changes together.
type Affected struct {
	Who    string   `json:"who"`
	Group  bool     `json:"group,omitempty"`
	Rights []string `json:"rights"`
	Paths  int      `json:"paths"`
}
