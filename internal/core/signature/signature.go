// Package signature signs calls that carry no token, such as those of a repository's hook, with
// HMAC-SHA256 (RFC 2104).
//
//	request.Header.Set(signature.TimeHeader, at)
//	request.Header.Set(signature.Header, signature.Of(key, at, body))
package signature

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"strings"
)

// Names of the headers that bear a call's time, in Unix seconds, and its signature.
const (
	TimeHeader = "Oskeld-Time"
	Header     = "Oskeld-Signature"
)

const scheme = "hmac-sha256 "

// Of is the signature of a call: "hmac-sha256" and, in hex digits, the HMAC of its time, a point, and its body.
func Of(key []byte, at string, body []byte) string {
	return scheme + hex.EncodeToString(sum(key, at, body))
}

// Check tells whether a signature is the one of a call, and gives its bytes. It takes as long whatever
// is wrong.
func Check(text string, key []byte, at string, body []byte) (bytes []byte, ok bool) {
	digits, named := strings.CutPrefix(text, scheme)
	given, err := hex.DecodeString(digits)
	return given, hmac.Equal(given, sum(key, at, body)) && named && err == nil
}

func sum(key []byte, at string, body []byte) []byte {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(at + "."))
	mac.Write(body)
	return mac.Sum(nil)
}
