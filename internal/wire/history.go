package wire

import "strings"

// sayings says each kind of line: %s is the subject.
var sayings = map[string]struct{ says, about string }{
	"sign-in":                 {"signed in", ""},
	"sign-out":                {"signed out", ""},
	"sign-in refused":         {"tried to sign in as %s, and was refused", ""},
	"refused":                 {"tried to call %s, and was refused", ""},
	"second factor set":       {"set a second factor", ""},
	"second factor removed":   {"took away the second factor of %s", ""},
	"spare code used":         {"signed in with a spare code", ""},
	"sessions ended":          {"signed %s out elsewhere", ""},
	"password changed":        {"changed their password", ""},
	"person added":            {"added %s", "person"},
	"person removed":          {"removed %s", "person"},
	"roles set":               {"set the roles of %s", "person"},
	"password reset":          {"gave %s a one-time password", "person"},
	"hook added":              {"had notices sent, hook %s", ""},
	"hook removed":            {"ended the notices of hook %s", ""},
	"token made":              {"made token %s", ""},
	"token ended":             {"ended token %s", ""},
	"host invited":            {"made an enrolment code for host %s", "host"},
	"host admitted":           {"admitted host %s, by a file", "host"},
	"host enrolled":           {"enrolled host %s", "host"},
	"certificate renewed":     {"renewed the certificate of host %s", "host"},
	"host shut out":           {"shut host %s out", "host"},
	"tags set":                {"set the tags of host %s", "host"},
	"enrolment refused":       {"tried to enrol from %s, and was refused", ""},
	"edition drafted":         {"drafted an edition of %s", "application"},
	"edition published":       {"published an edition of %s", "application"},
	"review rule set":         {"said how many people approve plans of %s", "application"},
	"schedule added":          {"scheduled snapshots of %s", "application"},
	"schedule removed":        {"ended scheduled snapshots of %s", "application"},
	"snapshot asked for":      {"asked for a snapshot of host %s", "host"},
	"snapshots asked for":     {"asked for snapshots of %s", "application"},
	"snapshot cancelled":      {"cancelled a snapshot of host %s", "host"},
	"snapshot imported":       {"took in a snapshot file of host %s", "host"},
	"findings waived":         {"accepted findings of %s", "application"},
	"waiver withdrawn":        {"withdrew what was accepted of %s", "application"},
	"plan drafted":            {"drafted plan %s", "plan"},
	"plan submitted":          {"put plan %s in review", "plan"},
	"plan approved":           {"approved plan %s", "plan"},
	"plan declined":           {"declined plan %s", "plan"},
	"plan withdrawn":          {"took plan %s out of review", "plan"},
	"plan approval withdrawn": {"took back their approval of plan %s", "plan"},
	"plan approved in part":   {"approved plan %s, which others have to approve too,", "plan"},
	"plan remarked on":        {"said something of plan %s", "plan"},
	"own approval refused":    {"tried to decide on their own plan %s, and was refused", "plan"},
	"run started":             {"started run %s", "run"},
	"run carried out":         {"wrote the order of run %s to a file", "run"},
	"run report taken in":     {"took in a report of run %s", "run"},
	"run halted":              {"halted run %s", "run"},
	"run resumed":             {"had run %s go on", "run"},
	"run finished":            {"brought run %s to its end", "run"},
	"run failed":              {"had to stop run %s", "run"},
	"access probed":           {"had host %s try as an account", "host"},
	"storage tidied":          {"tidied the storage up", ""},
}

// Tell says a line as people do, and what it is about.
func (h *History) Tell() {
	s, ok := sayings[h.What]
	if !ok {
		s.says = h.What + " %s"
	}
	h.About = s.about
	h.Sentence = h.Who + " "
	if h.Token != "" {
		h.Sentence += "(token " + h.Token + ") "
	}
	h.Sentence += strings.TrimSpace(strings.Replace(s.says, "%s", h.Subject, 1))
	if h.Detail != "" {
		h.Sentence += ": " + h.Detail
	}
}
