package web

import (
	"idletally/internal/service/app"
	"net/http"
	"time"
)

func Cookie(token string, expires time.Time) http.Cookie { return strict(CookieName, token, expires) }

// KnownCookie has a browser keep that somebody signed in with it.
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
