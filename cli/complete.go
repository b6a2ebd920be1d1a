package cli

import (
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// Completion offers what the service knows and the caller may see. Where no
// service answers it offers nothing.

type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

const noFiles = cobra.ShellCompDirectiveNoFileComp

func (a *app) completeObjects(c *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	parent := ""
	if i := strings.LastIndexByte(start, '.'); i >= 0 {
		parent = start[:i]
	}
	n, err := client.Get[wire.Node](c.Context(), a.connect(), "/tree", url.Values{"path": {parent}})
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for _, child := range n.Children {
		if strings.HasPrefix(child.Path, start) {
			out = append(out, child.Path)
		}
	}
	return out, noFiles | cobra.ShellCompDirectiveNoSpace
}

// completeSubjects offers the subjects of a kind, or of all.
func (a *app) completeSubjects(kind string) completer {
	return func(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
		list, err := client.All[wire.Subject](c.Context(), a.connect(), "/subjects", url.Values{"kind": {kind}})
		if err != nil {
			return nil, noFiles
		}
		var out []string
		for _, s := range list {
			for _, name := range []string{s.Ref, s.Name} {
				if name != "" && strings.HasPrefix(name, start) && (kind != "" || name == s.Ref) {
					out = append(out, name+"\t"+s.Title)
				}
			}
		}
		return out, noFiles
	}
}

func (a *app) completePolicies(c *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	list, err := client.Get[wire.List[wire.Policy]](c.Context(), a.connect(), "/policies", nil)
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for _, p := range list.Items {
		if strings.HasPrefix(p.Name, start) {
			out = append(out, p.Name)
		}
	}
	return out, noFiles
}

// completeAny offers subjects once a kind is typed, objects otherwise.
func (a *app) completeAny(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	if strings.Contains(start, ":") || len(args) > 0 && (args[len(args)-1] == "to" || args[len(args)-1] == "from") {
		return a.completeSubjects("")(c, args, start)
	}
	return a.completeObjects(c, args, start)
}

// privileges are those of the service, in their usual order.
var privileges = []string{
	"usage",
	"select",
	"insert",
	"update",
	"delete",
	"references",
	"execute",
	"create",
	"describe",
	"reveal",
	"manage",
	"audit",
	"all",
}

func (a *app) completeWhy(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.completeSubjects("")(c, args, start)
	case 1:
		return privileges, noFiles
	}
	return a.completeObjects(c, args, start)
}
