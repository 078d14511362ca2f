package wire

import (
	"time"

	"idletally/internal/core/roster"
)

// A RosterNow is the roster as it stands: the edition that counts, and what is proposed to follow on it.
type RosterNow struct {
	Edition   *RosterEdition  `json:"edition,omitempty" doc:"That counts; none where hosts take the service's word alone"`
	Proposals []RosterEdition `json:"proposals" doc:"Editions that would follow on it, the oldest first"`
	Hosts     RosterHosts     `json:"hosts" doc:"What enrolled hosts change by"`
}

// RosterHosts counts enrolled hosts by what they change by.
type RosterHosts struct {
	Current int `json:"current" doc:"They act by the edition that counts"`
	Behind  int `json:"behind" doc:"They act by an earlier one, and follow with their next order"`
	Without int `json:"without" doc:"They know no roster: the service's word alone is enough there"`
}

// A RosterEdition is one edition of the roster.
type RosterEdition struct {
	Edition    int64          `json:"edition" doc:"Its number, from 1 on"`
	Digest     string         `json:"digest" doc:"SHA-256 of the document: its fingerprint"`
	Document   string         `json:"document" doc:"The text that people sign (see docs/formats.md)"`
	ProposedBy string         `json:"proposed_by" doc:"Who proposed it"`
	Proposed   time.Time      `json:"proposed" doc:"When"`
	Counts     *time.Time     `json:"counts,omitempty" doc:"Since when it counts; none of a proposal"`
	Until      time.Time      `json:"until" doc:"Hosts act by it no more then"`
	People     []RosterPerson `json:"people" doc:"Who may have hosts changed"`
	Signed     []SignedBy     `json:"signed" doc:"Who has signed that it is to count"`
	Needed     int            `json:"needed" doc:"How many people of the edition before have to sign that"`
	Have       int            `json:"have" doc:"How many of them have, each once by however many keys; or how many recovery keys, where these are more"`
	Gone       []string       `json:"gone" doc:"Of a proposal: what the edition that counts says and this one does not"`
	Come       []string       `json:"come" doc:"Of a proposal: what this edition says and the one that counts does not"`
}

// A RosterPerson is somebody of the roster.
type RosterPerson struct {
	Name string      `json:"name"`
	Keys []RosterKey `json:"keys" doc:"By which they sign"`
	May  []string    `json:"may" doc:"What they may do: submit, approve, put-back or alone, for an application, on a host; * is each"`
}

// A RosterKey is a key that somebody signs by.
type RosterKey struct {
	ID          string     `json:"id,omitempty" doc:"Of one that is registered"`
	Person      string     `json:"person,omitempty"`
	Name        string     `json:"name"`
	Kind        string     `json:"kind" doc:"webauthn, or the kind of an SSH key"`
	Text        string     `json:"text" doc:"As a roster has it"`
	Fingerprint string     `json:"fingerprint" doc:"What people compare: SHA-256 of the key"`
	Created     *time.Time `json:"created,omitempty"`
	Used        *time.Time `json:"used,omitempty"`
	Counts      bool       `json:"counts" doc:"It stands in the edition of the roster that counts"`
}

// NewSigningKey registers an SSH key.
type NewSigningKey struct {
	Name string `json:"name" minLength:"1" maxLength:"64" pattern:"^[A-Za-z0-9._@-]+$"`
	Key  string `json:"key" maxLength:"4096" doc:"Its public half: a line of an authorized_keys file"`
}

// A Request is a call that others have to agree to before it is carried out. When they have, whoever made it makes it
// again.
type Request struct {
	ID          string     `json:"id"`
	Operation   string     `json:"operation" doc:"The operation of the API, by its id"`
	Summary     string     `json:"summary" doc:"What that does"`
	Application string     `json:"application,omitempty"`
	AskedBy     string     `json:"asked_by" doc:"Who wants it"`
	Says        string     `json:"says" doc:"What the call says, as JSON"`
	Role        string     `json:"role" doc:"That whoever agrees has to have"`
	Needed      int        `json:"needed" doc:"How many others have to agree"`
	Agreed      []string   `json:"agreed" doc:"Who has"`
	ToSign      bool       `json:"to_sign,omitempty" doc:"Whoever agrees signs it by a key of their own"`
	Signed      []SignedBy `json:"signed,omitempty" doc:"What those who agreed have signed"`
	State       string     `json:"state" enum:"waiting,agreed,declined,used" doc:"Agreed: it is carried out when the call is made again"`
	Created     time.Time  `json:"created"`
	Expires     time.Time  `json:"expires"`
}

// Agreement is that somebody agrees to a request.
type Agreement struct {
	Signed *roster.Signed `json:"signed,omitempty" doc:"What they have signed of it by a key of their own"`
}

// NewRoster proposes an edition.
type NewRoster struct {
	Document string `json:"document" maxLength:"262144" doc:"As docs/formats.md describes it; its lists may be in whatever order"`
}

// WantedStatement asks for the text that somebody is to sign of a plan.
type WantedStatement struct {
	Says   string            `json:"says" enum:"submitted,approved,alone" doc:"What it is to say: that you have submitted the plan, that you have approved it, or that you have it run alone"`
	Words  map[string]string `json:"words,omitempty" doc:"Of each grave caution, by its id, why it is meant all the same"`
	Reason string            `json:"reason,omitempty" maxLength:"4000" doc:"Of who acts alone: why it cannot wait"`
}

// ToSign is a text for somebody to sign, and the keys by which they can.
type ToSign struct {
	Statement string         `json:"statement" doc:"Its bytes are what is signed; of a passkey the challenge is their SHA-256"`
	Site      string         `json:"site,omitempty" doc:"That passkeys are made for"`
	Keys      []RosterKey    `json:"keys" doc:"Of theirs, that the roster has"`
	Passkeys  []PasskeyOfKey `json:"passkeys" doc:"Those among them that a browser can use"`
}

// A PasskeyOfKey is how a browser knows a passkey that somebody signs by.
type PasskeyOfKey struct {
	ID  string `json:"id" doc:"By which the browser knows it, in base64url"`
	Key string `json:"key" doc:"Its text, as the roster has it"`
}

// RosterSignature is what somebody signed of an edition.
type RosterSignature struct {
	Signed roster.Signed `json:"signed" doc:"That the edition is to count"`
}

// SignedBy is what somebody signed, as it is shown.
type SignedBy struct {
	Who         string    `json:"who"`
	Says        string    `json:"says" doc:"What they said: submitted, approved, alone, or that an edition of the roster is enacted"`
	Key         string    `json:"key" doc:"Its name in the roster"`
	Kind        string    `json:"kind" doc:"Of the key: webauthn, or the kind of an SSH key"`
	Fingerprint string    `json:"fingerprint" doc:"Of the key: SHA-256"`
	At          time.Time `json:"at" doc:"As they signed it"`
	Until       time.Time `json:"until"`
	Statement   string    `json:"statement" doc:"The text that they signed"`
}
