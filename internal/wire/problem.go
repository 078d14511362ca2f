package wire

import "net/http"

// A ProblemKind is one way in which a call fails (RFC 9457). Codes stay what they are.
type ProblemKind struct {
	Code   string
	Status int
	Says   string // what it means
	Do     string // what a program does about it
}

// Codes that a program goes by.
const (
	InvalidInput        = "invalid-input" // it is not as the document of the API says
	SecondFactorMissing = "second-factor-missing"
	NewPasswordMissing  = "new-password-missing"
)

// Problems lists them. Of several with one status the first is meant where nothing else is known.
var Problems = []ProblemKind{
	{"malformed", http.StatusBadRequest, "The request cannot be read.", "Correct it."},
	{"not-signed-in", http.StatusUnauthorized, "Nobody is signed in, or who they are has to be shown again.",
		"Sign in, or give a token that counts."},
	{"not-allowed", http.StatusForbidden, "Whoever is signed in may not do this.", "Have somebody do it who may."},
	{SecondFactorMissing, http.StatusForbidden, "Name and password are right, and a second factor is wanted.",
		"Give a code, or a passkey, as well."},
	{NewPasswordMissing, http.StatusForbidden, "The password was for once, or has to be another one by now.",
		"Choose a new one."},
	{"not-found", http.StatusNotFound, "What is named is not there.", "Look for it in a list."},
	{"no-such-method", http.StatusMethodNotAllowed, "The path takes no calls by this method.",
		"See the document of the API."},
	{"not-acceptable", http.StatusNotAcceptable, "There is no answer in a form that was asked for.", "Ask for JSON."},
	{"timed-out", http.StatusRequestTimeout, "The request did not come to its end in time.", "Send it again."},
	{"conflict", http.StatusConflict, "It does not fit how things are by now.", "Look again, and decide anew."},
	{"stale", http.StatusPreconditionFailed, "Somebody else has changed it meanwhile.",
		"Read it again, with its ETag."},
	{"too-large", http.StatusRequestEntityTooLarge, "It is larger, or deeper, than is taken.", "Send less."},
	{"wrong-type", http.StatusUnsupportedMediaType, "The body has a media type that is not taken.",
		"Send JSON, or what the operation names."},
	{"cannot-do", http.StatusUnprocessableEntity, "It can be read, and cannot be done: the detail says why.",
		"Do what the detail says."},
	{InvalidInput, http.StatusUnprocessableEntity,
		"It is not as the document of the API says: errors names each place.", "Correct what errors names."},
	{"too-many", http.StatusTooManyRequests, "There were too many calls.", "Come again after Retry-After."},
	{"failed", http.StatusInternalServerError, "The service failed; its log says why.", "Tell whoever runs it."},
	{"not-available", http.StatusServiceUnavailable, "The service cannot do it now.",
		"Try again, after Retry-After where that is given."},
	{"no-answer", http.StatusGatewayTimeout, "A host, or somebody else who was asked, does not answer.",
		"See whether its agent runs, and try again."},
	{"no-room", http.StatusInsufficientStorage, "There is no room left to store it.", "Make room, and try again."},
}

// ProblemsAt is where a service tells what its problems mean; a problem's type is this, and its code behind a #.
const ProblemsAt = "/api/problems"

// ProblemCalled returns the kind of a code.
func ProblemCalled(code string) ProblemKind {
	for _, k := range Problems {
		if k.Code == code {
			return k
		}
	}
	return ProblemOf(http.StatusInternalServerError, false)
}

// ProblemOf returns the kind of a status; of one that no kind has it is "failed" from 500 on, and else
// "cannot-do". Invalid input is told apart.
func ProblemOf(status int, invalid bool) ProblemKind {
	var other ProblemKind
	for _, k := range Problems {
		switch {
		case invalid && k.Code == InvalidInput && status == k.Status:
			return k
		case k.Status == status && k.Code != InvalidInput && !(invalid && status == http.StatusUnprocessableEntity):
			return k
		case k.Code == "cannot-do" && status < 500, k.Code == "failed" && status >= 500:
			other = k
		}
	}
	return other
}
