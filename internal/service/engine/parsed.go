package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"sync"

	"idletally/internal/core/baseline"
	"idletally/internal/service/store"
)

// maxParsed bounds the bytes of the texts whose documents are kept; a document takes up to fifty times as much.
const maxParsed = 4 << 20

// A parsed keeps the documents of texts: each page and each comparison asks for those of the published editions. A
// document is for everybody to read, and for nobody to change. The zero value is ready to be used.
type parsed struct {
	mu         sync.Mutex
	young, old map[reading]*document // what nobody asks for while the young grow up is forgotten
	weight     int                   // bytes of the texts of the young
}

// A reading is a text, and for whom it is read: for all hosts alike, if it says the same to each.
type reading struct {
	text [sha256.Size]byte
	host string
}

// A document is a parsed text, with the editions that it includes as they were published then.
type document struct {
	*baseline.Document
	text     int // bytes, with what it includes
	included map[string]int
}

func (p *parsed) get(r reading) *document {
	p.mu.Lock()
	defer p.mu.Unlock()
	d := p.young[r]
	if d == nil {
		d = p.old[r]
		if d != nil {
			p.keep(r, d)
		}
	}
	return d
}

func (p *parsed) put(r reading, d *document) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.keep(r, d)
}

func (p *parsed) keep(r reading, d *document) {
	if d.text > maxParsed/2 {
		return // one is not to push out all others
	}
	if p.weight+d.text > maxParsed/2 || p.young == nil {
		p.young, p.old, p.weight = map[reading]*document{}, p.young, 0
	}
	if p.young[r] == nil {
		p.weight += d.text
	}
	p.young[r] = d
}

// parse reads a text for a host, or for none in particular, unless it has been parsed before.
func (d *Engine) parse(ctx context.Context, text string, env baseline.Env) (*baseline.Document, error) {
	all := reading{text: sha256.Sum256([]byte(text))}
	own := reading{all.text, env.Host + "\x00" + strings.Join(env.Tags, "\x00")}
	for _, r := range []reading{all, own} {
		doc := d.parsed.get(r)
		if doc == nil || r == all && doc.Varies && env.Host != "" {
			continue
		}
		if still, err := d.stillIncluded(ctx, doc); err != nil || still {
			return doc.Document, err
		}
	}

	out := &document{text: len(text), included: map[string]int{}}
	env.Fetch = func(application string) ([]byte, error) {
		e, err := d.Store.Edition(ctx, application, 0)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fmt.Errorf("no baseline of %s is published", application)
		}

		out.included[application], out.text = e.Number, out.text+len(e.Text)
		return []byte(e.Text), err
	}

	var err error
	if out.Document, err = baseline.ParseFor([]byte(text), env); err != nil {
		return nil, err
	}

	if out.Varies && env.Host != "" {
		d.parsed.put(own, out)
	} else {
		d.parsed.put(all, out)
	}

	return out.Document, nil
}

// stillIncluded reports whether the editions that a document includes are still the published ones.
func (d *Engine) stillIncluded(ctx context.Context, doc *document) (bool, error) {
	for application, number := range doc.included {
		now, err := d.Store.PublishedNumber(ctx, application)
		if err != nil || now != number {
			return false, err
		}
	}
	return true, nil
}
