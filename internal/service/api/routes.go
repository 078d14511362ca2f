package api

import (
	"net/http"
	"reflect"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/core/baseline"
	"idletally/internal/service/app"
	"idletally/internal/service/web"
	"idletally/internal/wire"
)

// routes returns all operations of the API. A row says everything that holds of one: its call, its id, the role that it
// needs, what it costs, who serves it, and what it does in a sentence.
func (s *API) routes() []route {
	return slices.Concat(
		s.peopleTable(),
		s.sessionsTable(),
		s.passkeysTable(),
		s.providerTable(),
		s.hostsTable(),
		s.baselinesTable(),
		s.snapshotsTable(),
		s.happeningsTable(),
		s.accessTable(),
		s.calculatorsTable(),
		s.driftTable(),
		s.waiversTable(),
		s.storageTable(),
		s.plansTable(),
		s.reviewsTable(),
		s.rosterTable(),
		s.overviewTable(),
		s.searchTable(),
		s.settingsTable(),
		s.policyTable(),
		s.requestsTable(),
		s.tokensTable(),
		s.historyTable(),
		s.keysTable(),
		s.newsTable(),
		s.schedulesTable(),
		s.hooksTable(),
		s.runsTable(),
		s.carriedTable(),
	)
}

// peopleTable is about signing in, and about people.
func (s *API) peopleTable() []route {
	a := s.App
	return []route{
		postAs("/sign-in", "sign-in", anybody, hashing, s.signIn, "Sign in"),
		postAs("/sign-out", "sign-out", signedIn, quick, s.signOut, "End this session").beforeTwoFactor(),
		get("/version", "get-version", signedIn, quick, a.GetVersion, "Say what the service is"),
		get("/me", "me", signedIn, quick, a.Me, "Who is signed in").beforeTwoFactor(),
		tell("/me/confirm", "confirm", signedIn, hashing, a.Confirm,
			"Show again who you are, by your password or a code of your second factor: good for ten "+
				"minutes").inPerson().beforeTwoFactor(),
		tell("/me/password", "change-password", signedIn, hashing, a.ChangePassword,
			"Change your own password. All your other sessions end, and your tokens, unless they are to "+
				"be kept").inPerson().beforeTwoFactor(),
		get("/people", "list-people", wire.Admin, quick, a.ListPeople, "List people"),
		post("/people", "add-person", wire.Admin, hashing, a.AddPerson,
			"Add a person with a one-time password").created().fresh().agreed(wire.Admin),
	}
}

// sessionsTable is about where somebody is signed in, and their second factor.
func (s *API) sessionsTable() []route {
	a := s.App
	return []route{
		get("/me/sessions", "list-sessions", signedIn, quick, a.ListSessions,
			"List where you are signed in").beforeTwoFactor(),
		del("/me/sessions/{id}", "end-session", signedIn, quick, a.EndSession,
			"Sign out elsewhere").inPerson().beforeTwoFactor(),
		del("/me/sessions", "end-sessions", signedIn, quick, a.EndSessions,
			"Sign out everywhere but here").inPerson().beforeTwoFactor(),
		del("/people/{name}/sessions", "end-sessions-of", wire.Admin, quick, a.EndSessionsOf,
			"Sign somebody out everywhere").inPerson().fresh(),
		postTo("/me/second", "propose-second", signedIn, quick, a.ProposeSecond,
			"Begin a second factor: a code by time (RFC 6238), six digits, every 30 seconds. It counts "+
				"once it is confirmed").created().inPerson().fresh().beforeTwoFactor(),
		put("/me/second", "confirm-second", signedIn, quick, a.ConfirmSecond,
			"Confirm a second factor by its code. All other sessions end").inPerson().fresh().beforeTwoFactor(),
		tell("/me/second/remove", "remove-second", signedIn, quick, a.RemoveSecond,
			"Turn off your second factor, by one of its codes").inPerson(),
		del("/people/{name}/second", "remove-second-of", wire.Admin, quick, a.RemoveSecondOf,
			"Take away the second factor of somebody who has lost it. Their sessions end").
			inPerson().fresh().agreed(wire.Admin),
	}
}

// passkeysTable is about passkeys and security keys.
func (s *API) passkeysTable() []route {
	a := s.App
	return []route{
		postTo("/sign-in/passkey", "ask-passkey", anybody, hashing, a.AskPasskey,
			"Begin to sign in by a passkey alone, or, with name and password, by one as a second factor"),
		postTo("/me/passkeys/ask", "ask-own-passkey", signedIn, quick, a.AskOwnPasskey,
			"Begin to show again who you are by a passkey").inPerson().beforeTwoFactor(),
		get("/me/passkeys", "list-passkeys", signedIn, quick, a.ListPasskeys,
			"List your passkeys and security keys").inPerson().beforeTwoFactor(),
		postTo("/me/passkeys/begin", "begin-passkey", signedIn, quick, a.BeginPasskey,
			"Begin to add a passkey or security key").inPerson().fresh().beforeTwoFactor(),
		post("/me/passkeys", "add-passkey", signedIn, quick, a.AddPasskey,
			"Add a passkey or security key that a browser made. All other sessions end").
			created().inPerson().fresh().beforeTwoFactor(),
		del("/me/passkeys/{id}", "remove-passkey", signedIn, quick, a.RemovePasskey,
			"End a passkey or security key").inPerson().fresh(),
	}
}

// providerTable is about signing in by way of a provider.
func (s *API) providerTable() []route {
	a := s.App
	return []route{
		get("/sign-in/ways", "sign-in-ways", anybody, quick, a.SignInWays, "How people can sign in here"),
	}
}

// hostsTable is about hosts.
func (s *API) hostsTable() []route {
	a := s.App
	return []route{
		get("/hosts", "list-hosts", wire.Viewer, quick, a.ListHosts, "List hosts"),
		get("/hosts/{name}", "get-host", wire.Viewer, quick, a.GetHost, "Show a host"),
		post("/hosts", "invite-host", wire.Operator, quick, a.InviteHost,
			"Add a host, or change its tags, and make a one-time enrolment code").created(),
	}
}

// baselinesTable is about baselines and their editions.
func (s *API) baselinesTable() []route {
	a := s.App
	return []route{
		post("/baselines/check", "check-baseline", wire.Viewer, costly, a.CheckBaseline,
			"Check a baseline without keeping it"),
		post("/baselines", "upload-baseline", wire.Author, costly, a.UploadBaseline,
			"Keep a baseline as the next draft edition").
			created().of(a.ApplicationOfEdition),
		post("/baselines/effect", "preview-baseline", wire.Author, costly, a.PreviewBaseline,
			"How a baseline would judge the last snapshots, beside the published edition").of(a.ApplicationOfText),
		post("/baselines/derive", "derive-baseline", wire.Author, costly, a.DeriveBaseline,
			"Draft a baseline from hosts that are right, without keeping it").
			named(func(in *wire.NewDerivation) string { return in.Application }),
		get("/baselines/{name}/{number}/effect", "compare-editions", wire.Viewer, costly, a.CompareEditions,
			"Which paths two editions judge differently, on the last snapshots"),
		get("/baselines/{name}/{number}/explain", "explain-path", wire.Viewer, costly, a.ExplainPath,
			"Which rule decides which aspect of a path"),
		get("/baselines/{name}", "list-editions", wire.Viewer, quick, a.ListEditions,
			"List an application's editions, newest first"),
		get("/baselines/{name}/{number}", "get-edition", wire.Viewer, quick, a.GetEdition,
			"Show an edition with its text"),
		postTo("/baselines/{name}/{number}/publish", "publish-edition", wire.Author, costly, a.PublishEdition,
			"Make an edition the one that counts, and compare the last snapshots with it").
			named(func(in *app.EditionRequest) string { return in.Name }).agreed(wire.Reviewer),
		get("/applications", "list-applications", wire.Viewer, quick, a.ListApplications,
			"List applications with the state on their hosts"),
	}
}

// snapshotsTable is about snapshots.
func (s *API) snapshotsTable() []route {
	a := s.App
	return []route{
		post("/snapshots", "take-snapshot", wire.Operator, quick, a.TakeSnapshot,
			"Have a snapshot taken").accepted().named(func(in *wire.NewSnapshot) string { return in.Application }),
		postTo("/applications/{name}/snapshots", "take-snapshots", wire.Operator, costly, a.TakeSnapshots,
			"Have snapshots of an application taken on all of its hosts, or on some").
			accepted().named(func(in *app.TakeSnapshotsRequest) string { return in.Name }),
		get("/snapshots", "list-snapshots", wire.Viewer, quick, a.ListSnapshots, "List snapshots, newest first"),
		get("/snapshots/{id}", "get-snapshot", wire.Viewer, quick, a.GetSnapshot, "Show a snapshot"),
		postTo("/snapshots/{id}/cancel", "cancel-snapshot", wire.Operator, quick, a.CancelSnapshot,
			"Cancel a pending snapshot").of(a.ApplicationOfSnapshot),
		getFile("/snapshots/{id}/file", "export-snapshot", wire.Viewer, costly, a.ExportSnapshot,
			"A snapshot as one file that holds all of it (see docs/formats.md)"),
		postTo("/snapshots/import", "import-snapshot", wire.Operator, sending, s.importSnapshot,
			"Take in a snapshot file of a host (application/octet-stream)").
			created().named(func(in *imported) string { return in.Application }),
		get("/snapshots/{id}/changes", "compare-snapshots", wire.Viewer, costly, a.CompareSnapshots,
			"What changed from one snapshot to another"),
	}
}

// happeningsTable is about events.
func (s *API) happeningsTable() []route {
	return []route{
		getAs("/happenings", "follow-happenings", wire.Viewer, waiting, s.followHappenings,
			"What happens, as server-sent events: each holds a Happening; the first says that the stream "+
				"has begun"),
	}
}

// accessTable is about paths, and who can do what with them.
func (s *API) accessTable() []route {
	a := s.App
	return []route{
		get("/path", "show-path", wire.Viewer, costly, a.ShowPath,
			"Show one path, on a host now or in a snapshot, with all that decides access to it"),
		get("/paths/new", "preview-new", wire.Viewer, costly, a.PreviewNew,
			"What an account's new files and folders get in a folder"),
		get("/paths/times", "list-path-times", wire.Viewer, costly, a.ListPathTimes,
			"What a path was in the snapshots of its host: each state with its times, the newest first"),
		get("/paths", "list-paths", wire.Viewer, costly, a.ListPaths,
			"List a folder, on a host now or in a snapshot; without a path the roots of the snapshot"),
		get("/access", "decide-access", wire.Viewer, costly, a.DecideAccess,
			"What an account can do with a path, and why"),
		get("/access/proposals", "propose-access", wire.Viewer, costly, a.ProposeAccess,
			"What it would take that an account can do something with a path, and whom else that lets in"),
		get("/access/restriction", "propose-restriction", wire.Viewer, costly, a.ProposeRestriction,
			"What has to be taken away so that nobody but some accounts can do something with a path, and what "+
				"that takes from others"),
		get("/access/holders", "list-holders", wire.Viewer, costly, a.ListHolders,
			"Who can do something with a path, and why"),
		get("/access/matrix", "get-matrix", wire.Viewer, costly, a.GetMatrix,
			"What the accounts that matter can do with a path"),
		get("/access/below", "list-below", wire.Viewer, costly, a.ListBelow,
			"What an account can do with everything below a folder"),
		post("/access/probe", "probe-access", wire.Operator, costly, a.ProbeAccess,
			"Have a host try as an account, and set its answers beside the computed ones"),
		get("/accounts/{name}", "show-account", wire.Viewer, costly, a.ShowAccount,
			"Who an account is on a host, and which groups it belongs to"),
		get("/accounts", "list-accounts", wire.Viewer, costly, a.ListAccounts,
			"The accounts and groups that a host told of last, or with a snapshot"),
	}
}

// calculatorsTable is about modes, lists and passwords that are only calculated with.
func (s *API) calculatorsTable() []route {
	a := s.App
	return []route{
		get("/calculate/mode", "calculate-mode", anybody, quick, a.CalculateMode,
			"Explain, convert or change a mode"),
		post("/calculate/password", "judge-password", anybody, quick, a.JudgePassword,
			"How well a new password withstands who guesses; it is kept nowhere"),
		get("/calculate/entries", "calculate-entries", anybody, quick, a.CalculateEntries, "Explain an access list"),
		get("/calculate/new", "calculate-new", anybody, quick, a.CalculateNew, "What new files and folders get"),
	}
}

// driftTable is about how hosts differ from what is declared.
func (s *API) driftTable() []route {
	a := s.App
	return []route{
		get("/drift", "get-drift", wire.Viewer, costly, a.GetDrift,
			"The newest reports of an application and their groups of findings"),
		get("/drift/equal", "list-equal", wire.Viewer, costly, a.ListEqual,
			"The groups of findings of an application, equal ones of all hosts as one"),
		get("/drift/trend", "get-trend", wire.Viewer, quick, a.GetTrend, "How drift went, host by host"),
		get("/drift/causes", "list-causes", wire.Viewer, quick, a.ListCauses,
			"Where new paths keep coming out wrong, and the likely cause, host by host"),
		getAs("/drift/report", "write-report", wire.Viewer, costly, a.WriteReport,
			"The newest reports of an application, written for others: a page in one file, CSV, JUnit "+
				"XML or OpenMetrics"),
		get("/reports/{id}/places", "list-places", wire.Viewer, costly, a.ListPlaces,
			"Where in the tree a report's findings are"),
		get("/reports/{id}/findings", "list-findings", wire.Viewer, costly, a.ListFindings,
			"List a report's findings in the order of paths"),
		get("/reports/{id}/unread", "list-unread", wire.Viewer, quick, a.ListUnread,
			"List what a report could not judge, and why"),
	}
}

// waiversTable is about what is accepted for a while.
func (s *API) waiversTable() []route {
	a := s.App
	return []route{
		get("/waivers", "list-waivers", wire.Viewer, quick, a.ListWaivers,
			"List the waivers of an application, soonest to end first"),
		post("/waivers", "add-waiver", wire.Reviewer, costly, a.AddWaiver,
			"Accept findings until a date, with a reason").
			created().named(func(in *wire.NewWaiver) string { return in.Application }),
		postTo("/waivers/{id}/withdraw", "withdraw-waiver", wire.Reviewer, quick, a.WithdrawWaiver,
			"End a waiver before its time").of(a.ApplicationOfWaiver),
	}
}

// storageTable is about what is stored.
func (s *API) storageTable() []route {
	a := s.App
	return []route{
		get("/storage", "get-storage", wire.Viewer, quick, a.GetStorage, "How much is stored"),
		postTo("/storage/check", "check-storage", wire.Admin, costly, a.CheckStorage,
			"Verify what is stored, a part at a time: every node's hash, and that all it refers to is "+
				"there"),
		postTo("/storage/tidy", "tidy-storage", wire.Admin, costly, a.TidyStorage,
			"Remove now what is not to be kept, and what nothing refers to"),
	}
}

// plansTable is about plans.
func (s *API) plansTable() []route {
	a := s.App
	return []route{
		post("/plans", "draft-plan", wire.Author, costly, a.DraftPlan,
			"Draft a plan: a remediation from findings, a restore from a run's originals or a snapshot, "+
				"an adjustment from hand-written changes").created().of(a.ApplicationOfDraft),
		post("/plans/foreseen", "foresee-changes", wire.Author, costly, a.ForeseeChanges,
			"What hand-written changes would come to; nothing is drafted, and no host is asked").
			of(a.ApplicationOfForesee),
		get("/plans", "list-plans", wire.Viewer, quick, a.ListPlans, "List plans, newest first"),
		get("/plans/{id}", "get-plan", wire.Viewer, costly, a.GetPlan, "Show a plan with its equal steps"),
		get("/plans/{id}/steps", "list-steps", wire.Viewer, costly, a.ListSteps,
			"List a plan's steps on a host, from the bytes that are signed"),
		getAs("/plans/{id}/script", "write-script", wire.Viewer, costly, a.WriteScript,
			"A plan's steps on a host as a shell script that uses the system's own utilities only, and "+
				"undoes itself"),
		getFile("/plans/{id}/evidence", "write-evidence", wire.Viewer, costly, a.WriteEvidence,
			"Download a plan's steps, what people signed of it, the roster that they signed by and what its run "+
				"came to, for anybody to verify (application/octet-stream)"),
		postTo("/plans/{id}/submit", "submit-plan", wire.Author, costly, a.SubmitPlan,
			"Put a draft in review").of(a.ApplicationOfSubmission),
		postTo("/plans/{id}/statement", "write-statement", signedIn, costly, a.WriteStatement,
			"The text that you are to sign of a plan by a key of your own, and the keys by which you can"),
	}
}

// rosterTable is about the roster, and the keys that people sign by.
func (s *API) rosterTable() []route {
	a := s.App
	return []route{
		get("/roster", "get-roster", wire.Viewer, costly, a.GetRoster,
			"Show the roster: who may have hosts changed, by which keys, and what is proposed to follow on it"),
		post("/roster", "propose-roster", wire.Admin, quick, a.ProposeRoster,
			"Propose the next edition of the roster, or make the first one").created().fresh(),
		get("/roster/{digest}/statement", "write-roster-statement", signedIn, quick, a.WriteRosterStatement,
			"The text that you are to sign so that an edition of the roster counts"),
		postTo("/roster/{digest}/sign", "sign-roster", signedIn, quick, a.SignRoster,
			"Sign that an edition of the roster is to count: it does when enough people of the one before have"),
		del("/roster/{digest}", "withdraw-roster", wire.Admin, quick, a.WithdrawRoster,
			"Withdraw an edition of the roster that does not count").fresh(),
		get("/signing-keys", "list-signing-keys", wire.Viewer, quick, a.ListSigningKeys,
			"List the keys that people have registered to sign by, their passkeys among them"),
		post("/me/signing-keys", "add-signing-key", signedIn, quick, a.AddSigningKey,
			"Register an SSH key that you sign by").created().inPerson().fresh(),
		del("/me/signing-keys/{id}", "remove-signing-key", signedIn, quick, a.RemoveSigningKey,
			"End an SSH key of yours; a roster has it until an edition without it counts").inPerson(),
	}
}

// reviewsTable is about plans that somebody else looks at.
func (s *API) reviewsTable() []route {
	a := s.App
	return []route{
		postTo("/plans/{id}/approve", "approve-plan", wire.Reviewer, costly, a.ApprovePlan,
			"Approve another person's plan, with a word on each grave caution").
			of(a.ApplicationOfDecision),
		postTo("/plans/{id}/alone", "approve-plan-alone", wire.Operator, costly, a.ApprovePlanAlone,
			"Approve a plan that nobody else has looked at, where the roster lets you act alone on each of its hosts").
			of(a.ApplicationOfDecision).inPerson(),
		postTo("/plans/{id}/decline", "decline-plan", wire.Reviewer, quick, a.DeclinePlan,
			"Decline another person's plan").
			of(a.ApplicationOfDecision),
		postTo("/plans/{id}/withdraw", "withdraw-plan", signedIn, quick, a.WithdrawPlan,
			"Take one's own plan out of review, or one's own approval back, before it runs").inPerson(),
		postTo("/plans/{id}/remarks", "add-remark", signedIn, quick, a.AddRemark,
			"Say something of a plan, or of one of its steps").created(),
		getAs("/applications/{name}/review", "get-review-rule", wire.Viewer, quick, a.GetReviewRule,
			"How many people have to approve an application's plans"),
		putAs("/applications/{name}/review", "set-review-rule", wire.Admin, quick, a.SetReviewRule,
			"Say how many people have to approve an application's plans").fresh().agreed(wire.Admin),
	}
}

// overviewTable is about how everything stands.
func (s *API) overviewTable() []route {
	a := s.App
	return []route{
		get("/overview", "get-overview", wire.Viewer, costly, a.GetOverview,
			"What needs somebody now, and how everything stands"),
	}
}

// searchTable is about finding anything by a part of its name.
func (s *API) searchTable() []route {
	a := s.App
	return []route{
		get("/search", "search", wire.Viewer, costly, a.Search,
			"Find hosts, applications, rules, accounts, plans and paths"),
	}
}

// settingsTable is about tags, people's roles, and taking out.
func (s *API) settingsTable() []route {
	a := s.App
	return []route{
		getAs("/people/{name}/roles", "get-roles", wire.Admin, quick, a.GetRoles, "What a person may do"),
		putAs("/people/{name}/roles", "set-roles", wire.Admin, quick, a.SetRoles, "Say what a person may do").fresh().
			agreed(wire.Admin),
		postTo("/people/{name}/password", "reset-password", wire.Admin, hashing, a.ResetPassword,
			"Give a person a one-time password, good for a day, which ends their sessions and tokens").
			fresh().agreed(wire.Admin),
		del("/people/{name}", "remove-person", wire.Admin, quick, a.RemovePerson,
			"Remove a person; what they did stays in the history").fresh().agreed(wire.Admin),
		getAs("/hosts/{name}/tags", "get-tags", wire.Viewer, quick, a.GetTags, "Which tags a host has"),
		putAs("/hosts/{name}/tags", "set-tags", wire.Operator, quick, a.SetTags,
			"Say which tags a host has: baselines choose their hosts by them"),
		postTo("/hosts/{name}/shut-out", "shut-out-host", wire.Operator, quick, a.ShutOutHost,
			"Revoke the certificate of a host's agent: it has to be enrolled anew"),
	}
}

// requestsTable is about what others have to agree to.
func (s *API) requestsTable() []route {
	a := s.App
	return []route{
		get("/requests", "list-requests", signedIn, quick, a.ListRequests,
			"List what waits for others to agree, or was agreed to and is still to be done: your own, and what you "+
				"can agree to"),
		get("/requests/{id}", "get-request", signedIn, quick, a.GetRequest,
			"Show what somebody wants others to agree to"),
		postTo("/requests/{id}/statement", "write-agreement", signedIn, quick, a.WriteAgreement,
			"Write the text that you are to sign of a request, with the keys by which you can").inPerson(),
		postTo("/requests/{id}/agree", "agree-to-request", signedIn, quick, a.AgreeToRequest,
			"Agree to what somebody else wants to do").inPerson().fresh(),
		postTo("/requests/{id}/decline", "decline-request", signedIn, quick, a.DeclineRequest,
			"Decline what somebody else wants to do, or take back what you have asked for").inPerson(),
	}
}

// policyTable is about what holds for people.
func (s *API) policyTable() []route {
	a := s.App
	return []route{
		getAs("/policy", "get-policy", wire.Viewer, quick, a.GetPolicy,
			"What holds for people and their sessions, and what is to hold"),
		putAs("/policy", "set-policy", wire.Admin, quick, a.SetPolicy,
			"Say what is to hold for people and their sessions: at once where it is stricter, otherwise "+
				"when a new reviewer would count").fresh().agreed(wire.Admin),
		del("/policy/next", "keep-policy", wire.Admin, quick, a.KeepPolicy,
			"Have what holds for people go on holding").fresh(),
	}
}

// tokensTable is about tokens of programs.
func (s *API) tokensTable() []route {
	a := s.App
	return []route{
		get("/tokens", "list-tokens", signedIn, quick, a.ListTokens, "List your tokens; of an admin, everybody's"),
		post("/tokens", "add-token", signedIn, quick, a.AddToken,
			"Make a token, for a program that does something for you").created().inPerson().fresh(),
		del("/tokens/{id}", "remove-token", signedIn, quick, a.RemoveToken,
			"End a token; of an admin, anybody's").inPerson(),
	}
}

// historyTable is about the audit log.
func (s *API) historyTable() []route {
	a := s.App
	return []route{
		get("/history", "list-history", wire.Viewer, quick, a.ListHistory, "List the audit log, newest first"),
		getFile("/history/file", "write-history", wire.Viewer, costly, a.WriteHistory,
			"The audit log as CSV, newest first"),
		get("/history/check", "check-history", wire.Viewer, costly, a.CheckHistory,
			"Verify that nothing of the history was changed, taken out or put in"),
		getFile("/history/chain", "export-history", wire.Viewer, costly, a.ExportHistory,
			"The whole history as lines of JSON that can be verified elsewhere; the last is its signed "+
				"head"),
	}
}

// keysTable is about the service's own keys.
func (s *API) keysTable() []route {
	a := s.App
	return []route{
		get("/keys", "show-keys", wire.Viewer, quick, a.ShowKeys,
			"The authorities and the key that the service's hosts are to know it by, and which hosts do "+
				"not yet"),
	}
}

// newsTable is about what has changed in how somebody signs in.
func (s *API) newsTable() []route {
	a := s.App
	return []route{
		get("/me/news", "list-news", signedIn, quick, a.ListNews,
			"What has changed in how you sign in, and who tried to, since you said that you have seen "+
				"it; of the last 90 days").inPerson().beforeTwoFactor(),
		tell("/me/news/seen", "see-news", signedIn, quick, a.SeeNews,
			"Say that you have seen what has changed in how you sign in, up to some line").
			inPerson().fresh().beforeTwoFactor(),
	}
}

// schedulesTable is about schedules.
func (s *API) schedulesTable() []route {
	a := s.App
	return []route{
		get("/schedules", "list-schedules", wire.Viewer, quick, a.ListSchedules, "List schedules"),
		post("/schedules", "add-schedule", wire.Operator, quick, a.AddSchedule,
			"Schedule snapshots of an application").
			created().named(func(in *wire.NewSchedule) string { return in.Application }),
		del("/schedules/{id}", "remove-schedule", wire.Operator, quick, a.RemoveSchedule,
			"Delete a schedule, and what it has made due").of(a.ApplicationOfSchedule),
	}
}

// hooksTable is about programs that are told of what happens.
func (s *API) hooksTable() []route {
	a := s.App
	return []route{
		get("/hooks", "list-hooks", wire.Operator, quick, a.ListHooks,
			"List where programs are told of what happens"),
		post("/hooks", "add-hook", wire.Admin, quick, a.AddHook,
			"Have a program told of what happens, by signed CloudEvents").created().fresh(),
		postTo("/hooks/{id}/try", "try-hook", wire.Admin, asking, a.TryHook,
			"Have a notice sent that says nothing").accepted().fresh(),
		del("/hooks/{id}", "remove-hook", wire.Admin, quick, a.RemoveHook,
			"Delete a hook, and what it was to be told").fresh(),
	}
}

// runsTable is about runs.
func (s *API) runsTable() []route {
	a := s.App
	return []route{
		postTo("/plans/{id}/run", "start-run", wire.Operator, costly, a.StartRun,
			"Run an approved plan on its hosts").accepted().of(a.ApplicationOfPlan),
		get("/runs", "list-runs", wire.Viewer, quick, a.ListRuns, "List runs, newest first"),
		get("/runs/{id}", "get-run", wire.Viewer, quick, a.GetRun, "Show a run"),
		postTo("/runs/{id}/halt", "halt-run", wire.Operator, quick, a.HaltRun,
			"Halt a run at the next step boundary").accepted().of(a.ApplicationOfRun),
		postTo("/runs/{id}/resume", "resume-run", wire.Operator, quick, a.ResumeRun,
			"Go on with a halted or failed run").accepted().of(a.ApplicationOfRun),
		get("/runs/{id}/results", "list-results", wire.Viewer, quick, a.ListResults,
			"List the steps of a run that are not simply done, with reasons"),
		get("/runs/{id}/originals", "list-originals", wire.Viewer, costly, a.ListOriginals,
			"List what a run found on a host before it changed anything"),
	}
}

// carriedTable is about hosts without a network.
func (s *API) carriedTable() []route {
	a := s.App
	return []route{
		postTo("/hosts/{name}/admit", "admit-host", wire.Operator, quick, a.AdmitHost,
			"Admit a host without a network, by a request that was carried; what it had before "+
				"is no longer valid").created(),
		postTo("/runs/{id}/carry", "carry-run", wire.Operator, costly, a.CarryRun,
			"Have a run's order carried to a host without a network: its agent is given it by no "+
				"other way").of(a.ApplicationOfOrder),
		getFile("/runs/{id}/order", "write-order", wire.Operator, costly, a.WriteOrder,
			"A run's signed order for a host, as one file that can be carried there (see docs/formats.md)").
			of(a.ApplicationOfOrder),
		postTo("/runs/report", "take-report", wire.Operator, sending, s.takeReport,
			"Take in a run's report that was carried back from a host (application/octet-stream)").
			of(s.checkReport),
	}
}

// besides serves to people and programs what the table cannot say: streams of events, what leads a browser elsewhere,
// and documents.
func (s *API) besides(r chi.Router) {
	events := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Happening](), true, "Happening")
	s.api.OpenAPI().Paths["/api/v1/happenings"].Get.Responses["200"].Content = map[string]*huma.MediaType{
		"text/event-stream": {Schema: events},
	}

	s.Route(r, "GET", "/api/v1/runs/{id}/events", waiting, web.Personally, s.runEvents)
	s.Route(r, "GET", "/metrics", quick, web.Personally, s.UnlessOpen("metrics", s.Metrics.Handler()).ServeHTTP)
	s.Route(r, "GET", "/api/reference", quick, web.Personally,
		s.UnlessOpen("documents", http.HandlerFunc(s.showReference)).ServeHTTP)
	s.Route(r, "GET", app.BaselineSchema, quick, web.Personally, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		_, _ = w.Write(baseline.Schema)
	})
	if s.HasProvider() {
		s.Route(r, "GET", app.ProviderPath, asking, web.Openly, s.leave)
		s.Route(r, "GET", app.ProviderPath+"/back", asking, web.Openly, s.back)
	}
}
