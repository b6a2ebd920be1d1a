package cli

import "testing"

// TestCommentsStay: comments stay with what they are at when it is written again, and none is lost.
func TestCommentsStay(t *testing.T) {
	old := `# who asks for a licence
role: partner
title: Partner companies # as the contract calls them
grants:
  # they see what is released
  - privilege: SELECT
    object: survey.drilling
  - privilege: USAGE
    object: survey
    # agreed in spring
    until: "2027-01-31T00:00:00Z"
  # to be taken back
  - privilege: SELECT
    object: survey.assay
views:
  - view: survey.drilling.deep
    text: |-
      SELECT id # this is part of it
      FROM x
# the end
`
	for _, c := range []struct{ name, next, want string }{
		{"the same", "role: partner\ntitle: Partner companies\ngrants:\n  - privilege: SELECT\n    object: survey.drilling\n  - privilege: USAGE\n    object: survey\n    until: \"2027-01-31T00:00:00Z\"\n  - privilege: SELECT\n    object: survey.assay\nviews:\n  - view: survey.drilling.deep\n    text: |-\n      SELECT id # this is part of it\n      FROM x\n", old},
		{"moved, changed and gone", "role: partner\ntitle: Companies\ngrants:\n  - privilege: INSERT\n    object: survey.drilling\n  - privilege: USAGE\n    object: survey\n    until: \"2028-01-31T00:00:00Z\"\n  - privilege: SELECT\n    object: survey.drilling\n",
			`# who asks for a licence
role: partner
title: Companies # as the contract calls them
grants:
  - privilege: INSERT
    object: survey.drilling
  - privilege: USAGE
    object: survey
    # agreed in spring
    until: "2028-01-31T00:00:00Z"
  # they see what is released
  - privilege: SELECT
    object: survey.drilling
# the end
# to be taken back
`},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := withComments(old, c.next)
			if got != c.want {
				t.Errorf("it is\n%s\nnot\n%s", got, c.want)
			}
			if again := withComments(got, c.next); again != got {
				t.Errorf("written again it is\n%s", again)
			}
		})
	}
}
