package auth

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha1" // RFC 6238's usual hash, which every authenticator knows; as a keyed hash it holds
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// One-time codes by time (RFC 6238): six digits, every 30 seconds, by HMAC-SHA-1.
const (
	stepSeconds = 30
	digits      = 1_000_000
	secretBytes = 20 // as RFC 4226, section 4, recommends
	stepsAside  = 1  // clocks may be off by so many
)

// NewTOTP returns a new secret of a second factor (RFC 6238).
func NewTOTP() []byte {
	b := make([]byte, secretBytes)
	rand.Read(b)
	return b
}

// TOTPText returns a secret as people type it.
func TOTPText(secret []byte) string {
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(secret)
}

// TOTPURL returns the address that authenticators scan.
func TOTPURL(secret []byte, person, service string) string {
	label := url.PathEscape("Idle Tally " + service + ":" + person)
	return "otpauth://totp/" + label + "?" +
		url.Values{"secret": {TOTPText(secret)}, "issuer": {"Idle Tally " + service}}.Encode()
}

// codeAt returns the code of one step (RFC 4226, section 5.3).
func codeAt(secret []byte, step int64) int {
	m := hmac.New(sha1.New, secret)
	_ = binary.Write(m, binary.BigEndian, step) // a hash takes everything
	sum := m.Sum(nil)
	at := sum[len(sum)-1] & 0xf
	return int(binary.BigEndian.Uint32(sum[at:])&0x7fff_ffff) % digits
}

// CheckTOTP reports whether a code matches now, and of which step it is. A code of a step that was used, or of an
// earlier one, does not match any more.
func CheckTOTP(secret []byte, code string, now time.Time, used int64) (step int64, ok bool) {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	at := now.Unix() / stepSeconds
	for d := int64(-stepsAside); d <= stepsAside; d++ {
		if want := shown(secret, at+d); at+d > used && hmac.Equal([]byte(want), []byte(code)) {
			step, ok = at+d, true
		}
	}
	return step, ok
}

func shown(secret []byte, step int64) string { return fmt.Sprintf("%06d", codeAt(secret, step)) }
