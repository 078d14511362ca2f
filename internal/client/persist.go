package client

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"strings"
	"time"

	"idletally/internal/wire"
)

// persist repeats a call until there is a whole answer, for a while; the body is returned for out to be decoded from.
func (c *Client) persist(ctx context.Context, method, path string, in, out any) (answer []byte, err error) {
	file, once := in.(io.Reader) // which is read once
	var body []byte
	if in != nil && !once {
		var err error
		if body, err = json.Marshal(wire.WithLists(in)); err != nil {
			return nil, err
		}
	}

	key := rand.Text()
	for n := 1; ; n++ {
		kind, rd := "application/json", io.Reader(bytes.NewReader(body))
		if once {
			kind, rd = octets, file
		}

		req, err := http.NewRequestWithContext(ctx, method, c.Address+"/api/v1"+path, rd)
		if err != nil {
			return nil, err
		}

		if in != nil {
			req.Header.Set("Content-Type", kind)
		}

		if c.Token != "" {
			req.Header.Set("Authorization", "Bearer "+c.Token)
		}

		if c.Name != "" {
			req.Header.Set("User-Agent", c.Name)
		}

		if method != http.MethodGet {
			req.Header.Set("Idempotency-Key", key)
		}

		resp, err := c.HTTP.Do(req)
		if err != nil {
			err = unreachable(c.Address, err)
		} else if err = CheckResponse(resp); err != nil {
			resp.Body.Close()
		} else {
			answer, err = c.take(resp, out)
			resp.Body.Close()
			if err != nil && !errors.Is(err, ErrUnreachable) {
				return nil, err
			}

			resp = nil
		}

		if err == nil || once || c.Token == "" && method != http.MethodGet || !passing(resp, err, n) {
			return answer, err
		}
		if e := rest(ctx, n); e != nil {
			return nil, errors.Join(e, err)
		}
	}
}

// rest waits after so many tries.
func rest(ctx context.Context, tries int) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(mathrand.N(min(100*time.Millisecond<<tries, 4*time.Second))):
		return nil
	}
}

// passing reports whether an error may pass, after so many tries: a service that is not there at all is waited for
// only a moment; one that broke off, or whose database did, for some ten seconds.
func passing(resp *http.Response, err error, tries int) bool {
	if resp == nil {
		var op *net.OpError
		if errors.As(err, &op) && op.Op == "dial" {
			return tries < 4
		}
		return tries < 9 && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded) &&
			!isCertificate(err)
	}

	switch resp.StatusCode {
	case http.StatusServiceUnavailable:
	case http.StatusBadGateway, http.StatusGatewayTimeout:
		// of what stands before the service; its own tell of a host, and stand
		if strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") {
			return false
		}
	case http.StatusConflict:
		if resp.Header.Get("Retry-After") == "" {
			return false
		}
	default:
		return false
	}

	return tries < 9
}

func isCertificate(err error) bool {
	var c *tls.CertificateVerificationError
	return errors.As(err, &c)
}
