package api

import "time"

// PatienceOf sets how long a caller may read nothing.
func PatienceOf(d time.Duration) { writeTimeout = d }
