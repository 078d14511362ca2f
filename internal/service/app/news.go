package app

import (
	"context"
	"slices"

	"idletally/internal/wire"
)

// maxNews bounds how much one person is told: there are a dozen kinds, each by as many as have done it.
const maxNews = 200

// NewsOf says by which line of the history people are told of each operation that changes how somebody signs in; ""
// is one that changes nothing of that. A test wants each operation on people to be listed here.
var NewsOf = map[string]string{
	"change-password": "password changed", "reset-password": "password reset",
	"confirm-second": "second factor set", "remove-second": "second factor removed",
	"remove-second-of": "second factor removed",
	"add-passkey":      "passkey added", "remove-passkey": "passkey removed",
	"add-signing-key": "signing key registered", "remove-signing-key": "signing key removed",

	"propose-second": "", "begin-passkey": "", "ask-own-passkey": "", "confirm": "", // what follows on them does
	"end-session": "", "end-sessions": "", "end-sessions-of": "", "see-news": "",
	"set-roles": "", "remove-person": "",
}

// otherNews are lines that tell somebody what others did with their name.
var otherNews = []string{
	"spare code used", "code used again", "sign-in refused", "passkey refused", "password wrong", "code wrong",
}

// newsKinds are all of them.
func newsKinds() []string {
	kinds := slices.Clone(otherNews)
	for _, what := range NewsOf {
		if what != "" && !slices.Contains(kinds, what) {
			kinds = append(kinds, what)
		}
	}
	slices.Sort(kinds)
	return kinds
}

// ListNews returns what has changed in how you sign in, and who tried to, since you said that you have seen
// it; of the last 90 days.
func (s *App) ListNews(ctx context.Context, _ *struct{}) (*wire.News, error) {
	me := CallerOf(ctx)
	list, err := s.store.News(ctx, me.Name, me.Told, newsKinds(), maxNews)
	out := wire.News{Items: []wire.NewsItem{}}

	for _, n := range list {
		out.Items = append(out.Items, wire.NewsItem{
			What:   n.What,
			Who:    n.Who,
			Detail: n.Detail,
			Times:  n.Times,
			First:  n.First,
			Last:   n.Last,
		})
		out.Until = max(out.Until, n.Line)
	}

	return &out, err
}

// SeeNews says that you have seen what has changed in how you sign in, up to some line.
func (s *App) SeeNews(ctx context.Context, in *wire.NewsSeen) (*struct{}, error) {
	return nil, s.store.SetTold(ctx, CallerOf(ctx).Name, in.Until)
}
