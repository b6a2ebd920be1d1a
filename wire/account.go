package wire

import "time"

// SignIn asks for a session. With Token the answer has a bearer token; without,
// a cookie is set.
type SignIn struct {
	User     string `json:"user" required:"true"`
	Password string `json:"password" required:"true"`
	// NewPassword is wanted where an administrator has set the password.
	NewPassword string `json:"new_password,omitempty" description:"a password of one's own, in the place of one that an administrator has set"`
	Token       bool   `json:"token,omitempty"`
	Name        string `json:"name,omitempty" description:"what the token is for"`
}

// A Session says who is signed in.
type Session struct {
	User          string    `json:"user"`
	Title         string    `json:"title"`
	Administrator bool      `json:"administrator" description:"may manage the platform"`
	Reviewer      bool      `json:"reviewer" description:"may look at all subjects, grants and policies"`
	Auditor       bool      `json:"auditor" description:"may read the whole record"`
	Standpoint    string    `json:"standpoint" description:"the standpoint of this request, in words"`
	Role          string    `json:"role,omitempty" description:"the one role that it acts in; empty: all that are held"`
	Purpose       string    `json:"purpose,omitempty"`
	Roles         []string  `json:"roles" description:"all that the standpoint acts in"`
	Groups        []string  `json:"groups"`
	Expires       time.Time `json:"expires"`
	Revision      int64     `json:"revision" description:"of the model"`
	CSRF          string    `json:"csrf,omitempty" description:"to be sent back as X-CSRF-Token with every change"`
	Token         string    `json:"token,omitempty"`
}

// A PasswordRequest changes one's own password.
type PasswordRequest struct {
	Old string `json:"old" required:"true"`
	New string `json:"new" required:"true"`
}

// A Token lets its bearer act as an account, until it ends.
type Token struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Subject string    `json:"subject"`
	Session bool      `json:"session" description:"it came from signing in"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Current bool      `json:"current" description:"it is this request's"`
}

// A TokenRequest makes a token for the caller, or for an account that the caller
// administers.
type TokenRequest struct {
	Name    string     `json:"name" required:"true" description:"what it is for"`
	Subject string     `json:"subject,omitempty" description:"the caller when empty"`
	Expires *time.Time `json:"expires,omitempty" description:"in 90 days when not given; in a year at the latest"`
}

// A NewToken is a token with its secret, which is shown this once.
type NewToken struct {
	Token
	Secret string `json:"secret"`
}
