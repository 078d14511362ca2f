package web

import (
	"net/http"
	"time"

	"idletally/internal/service/app"
)

// Cookie keeps a session in a browser until it ends.
func Cookie(token string, expires time.Time) http.Cookie { return strict(CookieName, token, expires) }

// KnownCookie makes a browser remember that somebody signed in with it.
func KnownCookie(kept string) http.Cookie {
	return strict(deviceCookie, kept, time.Now().Add(app.DeviceLife))
}

func strict(name, value string, expires time.Time) http.Cookie {
	return http.Cookie{
		Name:     name,
		Value:    value,
		Path:     "/",
		Expires:  expires,
		Secure:   true,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	}
}

const deviceCookie = "__Host-idletally_device"
