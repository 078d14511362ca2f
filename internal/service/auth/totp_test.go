package auth

import (
	"fmt"
	"net/url"
	"testing"
	"time"
)

// The examples of RFC 6238, appendix B, cut to six digits, and of RFC 4226, appendix D.
func TestSecondFactor(t *testing.T) {
	secret := []byte("12345678901234567890")
	for at, want := range map[int64]string{
		59:          "287082",
		1111111109:  "081804",
		1111111111:  "050471",
		1234567890:  "005924",
		2000000000:  "279037",
		20000000000: "353130",
	} {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			step, ok := CheckTOTP(secret, want, time.Unix(at, 0), 0)
			if !ok || step != at/30 {
				t.Errorf("%d: %s is of step %d, %t", at, want, step, ok)
			}

			if _, ok := CheckTOTP(secret, want, time.Unix(at, 0), step); ok {
				t.Errorf("%d: %s twice", at, want)
			}

			for _, off := range []int64{-30, 30} {
				if _, ok := CheckTOTP(secret, want[:3]+" "+want[3:], time.Unix(at+off, 0), 0); !ok {
					t.Errorf("%d: not with a clock %d seconds off", at, off)
				}
			}

			for _, off := range []int64{-61, 61} {
				if at+off < 0 { // before Unix time
					continue
				}
				if _, ok := CheckTOTP(secret, want, time.Unix(at+off, 0), 0); ok {
					t.Errorf("%d: with a clock %d seconds off", at, off)
				}
			}
		})
	}

	for n, want := range []string{
		"755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489",
	} {
		t.Run(want, func(t *testing.T) {
			if got := fmt.Sprintf("%06d", codeAt(secret, int64(n))); got != want {
				t.Errorf("code %d is %s, want %s", n, got, want)
			}
		})
	}

	for _, bad := range []string{"", "28708", "2870820", "ABCDEF", "-87082"} {
		t.Run(bad, func(t *testing.T) {
			if _, ok := CheckTOTP(secret, bad, time.Unix(59, 0), 0); ok {
				t.Errorf("%q fits", bad)
			}
		})
	}

	u, err := url.Parse(TOTPURL(NewTOTP(), "bosun", "harbour:7780"))
	if err != nil || u.Scheme != "otpauth" || u.Host != "totp" || len(u.Query().Get("secret")) != 32 {
		t.Errorf("%v, %v", u, err)
	}
}
