package wire

// A View is a named query in a schema.
type View struct {
	Path    string   `json:"path"`
	Text    string   `json:"text" description:"one SELECT; empty: it is sealed, and not for the caller"`
	Rights  string   `json:"rights" enum:"owner,reader" description:"whose privileges it reads its tables with; policies are always the reader's"`
	Sealed  bool     `json:"sealed" description:"its text is shown to nobody without DESCRIBE on it"`
	Owner   string   `json:"owner"`
	Columns []string `json:"columns"`
}

// A ViewRequest makes a view.
type ViewRequest struct {
	Path    string   `json:"path" required:"true" description:"where it is to stand: SOURCE.SCHEMA.NAME"`
	Text    string   `json:"text" required:"true" description:"one SELECT over tables of the same source"`
	Columns []string `json:"columns,omitempty" description:"names of its columns, in place of those of the text"`
	Rights  string   `json:"rights,omitempty" enum:"owner,reader" description:"owner by default"`
	Sealed  bool     `json:"sealed,omitempty"`
	Owner   string   `json:"owner,omitempty" description:"a subject whose rights the caller has; by default the role that the caller acts in, else the caller"`
	Replace bool     `json:"replace,omitempty" description:"replace the view of that name"`
	Change
}
