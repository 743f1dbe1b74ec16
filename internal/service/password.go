package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime/debug"
	"strings"

	"golang.org/x/crypto/argon2"
	"oskeld.dev/oskeld/internal/core/fault"
)

// Parameters of argon2id, as RFC 9106 recommends where memory is constrained: 64 MiB, 3 passes.
const (
	argonTime    = 3
	argonMemory  = 64 << 10
	argonThreads = 4
	argonLength  = 32
)

// hashing limits how many passwords are hashed at a time, 64 MiB each.
var hashing = make(chan struct{}, 2)

// hashPassword gives a PHC string. A password has 10 to 200 bytes.
func hashPassword(password string) (string, error) {
	if len(password) < 10 || len(password) > 200 {
		return "", fault.Invalid("a password has 10 to 200 characters").On("password")
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	sum := derive(password, salt)
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b.EncodeToString(salt), b.EncodeToString(sum)), nil
}

func derive(password string, salt []byte) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	sum := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonLength)
	debug.FreeOSMemory() // 64 MiB that would stay for minutes
	return sum
}

// fits checks a password; with an empty hash it takes as long and fails.
func fits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	salt, want := []byte("no such account."), []byte{}
	if len(parts) == 6 {
		salt, _ = base64.RawStdEncoding.DecodeString(parts[4])
		want, _ = base64.RawStdEncoding.DecodeString(parts[5])
	}
	return subtle.ConstantTimeCompare(derive(password[:min(len(password), 200)], salt), want) == 1
}
