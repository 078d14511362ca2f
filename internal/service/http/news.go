package http

import (
	"context"
	"slices"

	"idletally/internal/wire"
)

// maxNews bounds how many lines of the history are looked at for one person: refusals that anybody can cause are gathered there already.
const maxNews = 200

// newsOf says of each operation that changes how somebody signs in by which line of the history they are told; "" is one that changes nothing
// of that. A test wants each operation on people to stand here.
var newsOf = map[string]string{
	"change-password": "password changed", "reset-password": "password reset",
	"confirm-second": "second factor set", "remove-second": "second factor removed", "remove-second-of": "second factor removed",
	"add-passkey": "passkey added", "remove-passkey": "passkey removed",

	"propose-second": "", "begin-passkey": "", "ask-own-passkey": "", "confirm": "", // what follows on them does
	"end-session": "", "end-sessions": "", "end-sessions-of": "", "see-news": "",
	"set-roles": "", "remove-person": "",
}

// otherNews are lines that tell somebody of what others did with their name.
var otherNews = []string{"spare code used", "code used again", "sign-in refused", "passkey refused", "password wrong", "code wrong"}

// newsKinds are all of them.
func newsKinds() []string {
	kinds := slices.Clone(otherNews)
	for _, what := range newsOf {
		if what != "" && !slices.Contains(kinds, what) {
			kinds = append(kinds, what)
		}
	}
	slices.Sort(kinds)
	return kinds
}

func (s *Server) newsRoutes() {
	add(s, op{"GET", "/me/news", "list-news", "What has changed in how you sign in, and who tried to, since you said that you have seen it; of the last 90 days", "any", 200}, inPerson(func(ctx context.Context, _ *struct{}) (*body[wire.News], error) {
		me := caller(ctx)
		list, err := s.Store.News(ctx, me.Name, me.Told, newsKinds(), maxNews)
		out := wire.News{Items: []wire.NewsItem{}}
		for _, l := range list {
			i := slices.IndexFunc(out.Items, func(n wire.NewsItem) bool { return n.What == l.What && n.Who == l.Who && n.Detail == l.Detail })
			if i < 0 {
				out.Items = append(out.Items, wire.NewsItem{What: l.What, Who: l.Who, Detail: l.Detail, Last: l.At})
				i = len(out.Items) - 1
			}
			out.Items[i].First = l.At
			out.Items[i].Times++
			out.Until = max(out.Until, l.ID)
		}
		return &body[wire.News]{out}, err
	}))
	add(s, op{"POST", "/me/news/seen", "see-news", "Say that you have seen what has changed in how you sign in, up to some line", "any", 204}, inPerson(func(ctx context.Context, in *body[wire.NewsSeen]) (*struct{}, error) {
		return nil, s.Store.SetTold(ctx, caller(ctx).Name, in.Body.Until)
	}))
}
