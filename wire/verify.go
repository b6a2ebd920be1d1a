package wire

// A Verification says whether a chain of entries holds: none was altered or taken out,
// and it ends no sooner than it did.
type Verification struct {
	Chain   string `json:"chain" description:"record or journal"`
	Entries int64  `json:"entries" description:"those that hold, from the first on"`
	Last    int64  `json:"last" description:"the number of the last of them"`
	Hash    string `json:"hash" description:"its hash, which stands for all before it; note it down elsewhere to compare with later"`
	Holds   bool   `json:"holds"`
	Problem string `json:"problem,omitempty" description:"where it does not"`
}
