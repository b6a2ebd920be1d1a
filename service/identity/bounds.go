package identity

import "gneiss/service/fault"

// What a caller sends is bounded before it is kept anywhere: in a limiter, a cache,
// or the record. All in bytes.
const (
	mostClient   = 64
	mostName     = 128 // of an account
	mostPassword = 1024
	mostPurpose  = 200
)

// ShortestPassword is how many bytes a password has at the least.
const ShortestPassword = 8

// FitPassword refuses a text that cannot be a password: one that could not be given again at
// sign-in, or that is too easily guessed.
func FitPassword(text string) error {
	switch {
	case len(text) > mostPassword:
		return fault.New(fault.Invalid, "oversized", "a password can have up to %d bytes", mostPassword)
	case len(text) < ShortestPassword:
		return fault.New(fault.Invalid, "weak_password", "a password needs at least %d characters", ShortestPassword)
	}
	return nil
}
