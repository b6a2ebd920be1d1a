package wire

import "time"

// A SQLSession is a connection to the SQL port.
type SQLSession struct {
	ID         string    `json:"id"`
	User       string    `json:"user"`
	Standpoint string    `json:"standpoint,omitempty" description:"as whom it looks, where that is not the user with all their roles"`
	Client     string    `json:"client" description:"the program, as it calls itself"`
	Address    string    `json:"address"`
	Database   string    `json:"database" description:"the source"`
	TLS        bool      `json:"tls"`
	Since      time.Time `json:"since"`
	State      string    `json:"state" enum:"idle,running,idle in transaction,failed transaction"`
	StateSince time.Time `json:"state_since"`
	Statement  string    `json:"statement" description:"that it runs, or ran last"`
}
