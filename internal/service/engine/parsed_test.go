package engine

import (
	"crypto/sha256"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/service/store"
)

const (
	lending = "idletally: 1\napplication: lender\nhosts: {tags: [boats]}\nroots: [/lent]\naccounts: {web: " +
		"WEB}\nrules:\n  - {rule: all, paths: /lent, files: 0640}\n"
	borrowing = "idletally: 1\napplication: boats\nhosts: {tags: [boats]}\ninclude: lender\nroots: [/srv]\nrules:\n " +
		" - {rule: all, paths: /srv/**, owner: web}\n"
	varying = "idletally: 1\napplication: boats\nhosts: {tags: [boats]}\nvariables: {who: {dory: a, default: " +
		"b}}\nroots: [/srv]\nrules:\n  - {rule: all, paths: /srv/**, owner: \"${who}\"}\n"
)

// A text is parsed once for all who ask, and anew where it says something else: on another host, or with
// another edition of what it includes.
func TestParsedOnce(t *testing.T) {
	ctx := t.Context()
	st := ownStore(t)
	d := &Engine{Store: st, Log: slog.New(slog.DiscardHandler)}
	for _, h := range []string{"dory", "skiff", "ferry"} {
		must(t, st.Invite(ctx, h, []string{"boats"}, sha256.Sum256([]byte(h)), time.Now().Add(time.Hour)))
	}

	publish := func(web string) {
		t.Helper()
		n, err := st.AddEdition(ctx,
			store.Edition{
				Application: "lender",
				Text:        strings.ReplaceAll(lending, "WEB", web),
				Author:      "quartermaster",
			},
			nil)

		must(t, err)
		must(t, st.Publish(ctx, "lender", n, "quartermaster"))
	}

	on := func(text, host string) *baseline.Document {
		t.Helper()
		var doc *baseline.Document
		var err error
		if host == "" {
			doc, err = d.Parse(ctx, text)
		} else {
			doc, err = d.ParseOn(ctx, text, host)
		}

		must(t, err)
		return doc
	}

	publish("www-one")
	first := on(borrowing, "dory")
	if on(borrowing, "dory") != first || on(borrowing, "skiff") != first || on(borrowing, "") != first {
		t.Error("what says the same on all hosts is parsed for each")
	}

	publish("www-two")
	second := on(borrowing, "dory")
	if second == first || first.Accounts["web"] != "www-one" || second.Accounts["web"] != "www-two" {
		t.Errorf("what is included says %q, and %q after another edition", first.Accounts["web"],
			second.Accounts["web"])
	}

	owner := func(host string) string { return on(varying, host).Rules[0].Owner.Name }
	for range 2 {
		if got := []string{owner("dory"), owner("skiff"), owner("ferry")}; fmt.Sprint(got) != "[a b b]" {
			t.Errorf("owners %v", got)
		}
	}

	own := on(varying, "dory")
	if again := on(varying, "dory"); again != own {
		t.Error("what differs from host to host is not kept for each")
	}

	// However many there are, they are bounded.
	filler := strings.Repeat("#", 100_000)
	for i := range 100 {
		on(strings.Replace(varying, "boats", fmt.Sprintf("boats-%d", i), 1)+filler, "")
	}

	if d.parsed.weight > maxParsed/2 || len(d.parsed.young)+len(d.parsed.old) > 2*maxParsed/100_000 {
		t.Errorf("%d bytes of %d and %d texts are kept", d.parsed.weight, len(d.parsed.young), len(d.parsed.old))
	}
}
