package api_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"gneiss/api"
	"gneiss/demo/demotest"
)

// FuzzRequests sends bodies and query strings to every endpoint that the document has,
// as an administrator in a dry run where there is one, and looks for answers by which
// the service says that it broke.
func FuzzRequests(f *testing.F) {
	var document struct{ Paths map[string]map[string]any }
	if err := json.Unmarshal(api.Document(), &document); err != nil {
		f.Fatal(err)
	}
	var routes [][2]string
	for path, methods := range document.Paths {
		for method := range methods {
			if path != "/api/v1/password" && !strings.Contains(path, "pseudonym") && (path != "/api/v1/session" || method == "get") {
				routes = append(routes, [2]string{strings.ToUpper(method), path})
			}
		}
	}
	slices.SortFunc(routes, func(a, b [2]string) int { return strings.Compare(a[1]+a[0], b[1]+b[0]) })
	for i := range routes {
		f.Add(i, `{"dry_run":true,"name":"x","table":"survey.drilling.boreholes","kind":"rows","rule":"id > 1"}`, "")
		f.Add(i, `{"privileges":["SELECT"],"object":"survey","subjects":["user:marl"],"dry_run":true}`, "path=survey")
		f.Add(i, `{"sql":"SELECT 1","params":[1e999,null,"x"]}`, "limit=-1")
		f.Add(i, `[]`, "as=user:flint")
		f.Add(i, `{"name":null,"objects":[null],"columns":["*",""]}`, "path=%00&below=..")
	}
	server := demotest.Start(f)
	opal := demotest.SignIn(f, server, "opal").Token
	f.Fuzz(func(t *testing.T, i int, body, query string) {
		route := routes[uint(i)%uint(len(routes))]
		if strings.ContainsAny(query, " #\r\n\x00") || len(query) > 1000 || len(body) > 100_000 {
			return
		}
		path := strings.NewReplacer("{name}", "x", "{ref}", "R-1", "{id}", "x").Replace(route[1])
		if route[0] == "GET" {
			body = ""
		}
		status, text, err := request(t, t.Context(), server, opal, route[0], path+"?"+query, body)
		if err != nil {
			return // no request
		}
		if status == 500 {
			t.Errorf("%s %s?%s %s: %s", route[0], path, query, body, text)
		}
	})
}
