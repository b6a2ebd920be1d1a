package identity

// What a caller sends is bounded before it is kept anywhere: in a limiter, a cache,
// or the record. All in bytes.
const (
	MostName     = 128 // of an account
	mostPassword = 1024
	MostPurpose  = 200
)
