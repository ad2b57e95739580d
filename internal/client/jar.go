package client

import (
	"net/http"
	"net/http/cookiejar"
)

// newJar keeps a session's cookie while signing in.
func newJar() http.CookieJar {
	jar, _ := cookiejar.New(nil) // fails only for options, and there are none
	return jar
}
