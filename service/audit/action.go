package audit

// What a record is of.
const (
	Query     = "query"     // a statement that reads
	Write     = "write"     // a statement that changes rows
	Preview   = "preview"   // the rows of a table from a standpoint
	Trial     = "trial"     // what a policy would do
	Matrix    = "matrix"    // what each subject gets of a table
	Sample    = "sample"    // reading values to suggest labels
	Review    = "review"    // asking for what is for reviewers, and reviewing access
	Change    = "change"    // of the model
	SignIn    = "sign-in"   // with a password
	Password  = "password"  // changing one's own
	Token     = "token"     // making or ending one
	Session   = "session"   // ending a connection to the SQL port
	Draft     = "draft"     // opening, filling or dropping one
	Retention = "retention" // taking old records away
	Request   = "request"   // asking to be given something, and deciding that
	Webhook   = "webhook"   // adding, changing, trying or removing one
)

// Actions lists them, as the record's search offers them.
func Actions() []string {
	return []string{Query, Write, Preview, Trial, Matrix, Sample, Review, Change, SignIn, Password, Token, Session, Draft, Request, Retention, Webhook}
}

// What was decided.
const (
	Allowed = "allowed"
	Refused = "refused"
	Failed  = "failed"  // allowed, and not done
	Unknown = "unknown" // allowed, and it is not known whether it was done
)

// Decisions lists them.
func Decisions() []string { return []string{Allowed, Refused, Failed, Unknown} }
