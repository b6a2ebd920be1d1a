package fault

import (
	"slices"
	"strings"

	"github.com/agext/levenshtein"
)

// mostNear is the longest name that others are compared with, in bytes.
const mostNear = 256

// Nearest finds the names that one may have meant, best first.
func Nearest(name string, known []string) []string {
	type scored struct {
		name  string
		score float64
	}
	var best []scored
	if len(name) > mostNear {
		return nil
	}
	last := func(s string) string { return s[strings.LastIndexAny(s, ".:")+1:] }
	for _, k := range known {
		// The last part alone counts too: drilling.boreholes is near boreholes.
		score := max(
			levenshtein.Match(strings.ToLower(name), strings.ToLower(k), nil),
			levenshtein.Match(last(strings.ToLower(name)), last(strings.ToLower(k)), nil)-0.05,
		)
		if score >= 0.6 {
			best = append(best, scored{k, score})
		}
	}
	slices.SortStableFunc(best, func(a, b scored) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return strings.Compare(a.name, b.name)
	})
	var names []string
	for _, b := range best[:min(len(best), 3)] {
		names = append(names, b.name)
	}
	return names
}

func DidYouMean(near []string) string {
	if len(near) == 0 {
		return ""
	}
	return "; did you mean " + near[0] + "?"
}
