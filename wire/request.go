package wire

import "time"

// An AccessRequest asks to be given something.
type AccessRequest struct {
	Privilege string `json:"privilege,omitempty" description:"SELECT when empty"`
	Object    string `json:"object,omitempty"`
	Reference string `json:"reference,omitempty" description:"instead: a refusal of the caller's, such as R-17, for what it lacked"`
	Reason    string `json:"reason" required:"true"`
}

// A Requested is a request, and what became of it.
type Requested struct {
	Number    int64      `json:"number"`
	By        string     `json:"by"`
	At        time.Time  `json:"at"`
	Asks      string     `json:"asks" description:"what for, in words"`
	Reason    string     `json:"reason"`
	Reference string     `json:"reference,omitempty" description:"the refusal that it came from"`
	Status    string     `json:"status" enum:"open,granted,declined,withdrawn"`
	Decided   *time.Time `json:"decided,omitempty"`
	DecidedBy string     `json:"decided_by,omitempty"`
	Word      string     `json:"word,omitempty" description:"for the asker"`
	Until     string     `json:"until,omitempty" description:"the end of what was granted"`
	Revision  int64      `json:"revision,omitempty"`
	Own       bool       `json:"own" description:"it is the caller's"`
	Decides   bool       `json:"decides" description:"the caller may decide it"`
	Missing   []string   `json:"missing" description:"for who decides: what is missing now"`
	Fixes     []Fix      `json:"fixes" description:"for who decides: the ways to give it, the smallest first"`
	Nearest   []string   `json:"nearest" description:"for who decides: how the nearest colleagues have it"`
	Note      string     `json:"note,omitempty" description:"for who decides: what stands in the way"`
}

// A RequestDecision decides a request.
type RequestDecision struct {
	Decision string     `json:"decision" required:"true" enum:"grant,decline,withdraw"`
	Fix      int        `json:"fix,omitempty" description:"of a grant: which of its fixes, from 1; the first when not given"`
	Until    *time.Time `json:"until,omitempty" description:"of a grant: when it ends"`
	Word     string     `json:"word,omitempty" description:"for the asker; needed to decline"`
	DryRun   bool       `json:"dry_run,omitempty" description:"show what it would do to whom, and do nothing"`
}
