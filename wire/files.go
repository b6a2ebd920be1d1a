package wire

// A File is one of those in which what administrators decided is kept for version control.
type File struct {
	Path string `json:"path" required:"true" description:"below the folder: roles/partner.yaml"`
	Text string `json:"text" required:"true"`
}

// Files are all of them.
type Files struct {
	Files    []File `json:"files"`
	Revision int64  `json:"revision"`
}

// A FilesRequest compares or loads files. What would be in a file that is not among them stays as it is.
type FilesRequest struct {
	Files []File `json:"files" required:"true"`
	Whole bool   `json:"whole,omitempty" description:"what is in none of the files is to go, too"`
	Change
}

// FilesCompared says where files differ from what is there.
type FilesCompared struct {
	Differs  []Differs `json:"differs" description:"what loading them would add, remove or change"`
	Revision int64     `json:"revision"`
}
