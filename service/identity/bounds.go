package identity

// What a caller sends is bounded before it is kept anywhere: in a limiter, a cache,
// or the record. All in bytes.
const (
	mostClient   = 64
	mostName     = 128 // of an account
	mostPassword = 1024
	mostPurpose  = 200
)
