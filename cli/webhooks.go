package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// webhooks adds where other systems are told of what happens.
func (a *app) webhooks(root *cobra.Command) {
	parent := &cobra.Command{Use: "webhook", Short: "Tell other systems of what happens", GroupID: "session",
		Long: `A webhook tells another system, such as a chat or a ticket system, of what happens: by
a signed POST request for each event of its topics (revision, draft, check, request,
review). What cannot be delivered is tried again for three days. How to check the signature stands
in docs/webhooks.md.`,
		Example: `  gneiss webhook add chat https://chat.example/hooks/gneiss --topics draft,check
  gneiss webhook try chat`}
	list := &cobra.Command{Use: "list", Short: "List the webhooks, and how they fare", Args: words(0, 0), RunE: func(c *cobra.Command, _ []string) error {
		found, err := client.Get[wire.List[wire.Webhook]](c.Context(), a.connect(), "/webhooks", nil)
		if err != nil {
			return err
		}
		if len(found.Items) == 0 && a.output == "table" {
			fmt.Fprintln(a.out, "There is no webhook yet. Add one: gneiss webhook add NAME URL")
			return nil
		}
		g := grid{head: []string{"webhook", "to", "topics", "status", "last delivered", "waiting", "trouble"}, right: map[int]bool{5: true}}
		for _, w := range found.Items {
			last, trouble := "", w.Trouble
			if w.Delivered != nil {
				last = w.Delivered.Local().Format("2006-01-02 15:04")
			}
			if w.Next != nil {
				trouble += "; tried again at " + w.Next.Local().Format("15:04:05")
			}
			g.rows = append(g.rows, []string{w.Name, w.URL, strings.Join(w.Topics, ", "), w.Status, last, fmt.Sprint(w.Waiting), trouble})
		}
		return a.show(found.Items, g)
	}}
	try := &cobra.Command{Use: "try NAME", Short: "Send one an event, and say what came of it", Args: words(1, 1)}
	try.RunE = func(c *cobra.Command, args []string) error {
		out, err := client.Send[wire.WebhookTried](c.Context(), a.connect(), "POST", "/webhooks/"+url.PathEscape(args[0])+"/try", nil)
		if err != nil {
			return err
		}
		if a.output != "table" {
			return a.show(out, grid{})
		}
		if !out.Delivered {
			fmt.Fprintf(a.out, "It was not delivered, after %.0f ms: %s\n", out.TookMS, out.Trouble)
			return &exit{ExitFailed}
		}
		fmt.Fprintf(a.out, "It was delivered, and answered with %d after %.0f ms.\n", out.Status, out.TookMS)
		return nil
	}
	parent.AddCommand(list, a.putWebhook("add", "Add a webhook", false), a.putWebhook("set", "Change a webhook", true), try,
		&cobra.Command{Use: "remove NAME", Short: "Remove a webhook", Args: words(1, 1), RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/webhooks/"+url.PathEscape(args[0]))
		}})
	root.AddCommand(parent)
}

func (a *app) putWebhook(use, short string, replace bool) *cobra.Command {
	in := wire.WebhookRequest{Replace: replace}
	var stop bool
	c := &cobra.Command{Use: use + " NAME URL", Short: short, Args: words(2, 2),
		Example: "  gneiss webhook add chat https://chat.example/hooks/gneiss --topics draft,check",
		RunE: func(c *cobra.Command, args []string) error {
			if in.Name = args[0]; len(args) > 1 {
				in.URL = args[1]
			}
			if in.Topics = commas(in.Topics); stop {
				in.Status = "stopped"
			}
			out, err := client.Send[wire.WebhookMade](c.Context(), a.connect(), "POST", "/webhooks", in)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(out, grid{})
			}
			fmt.Fprintln(a.out, strings.ToUpper(out.Says[:1])+out.Says[1:]+".")
			if out.Secret != "" {
				fmt.Fprintf(a.out, "The key of its signatures, shown this once (base64): %s\n", out.Secret)
			}
			return nil
		}}
	c.Flags().StringSliceVar(&in.Topics, "topics", nil, "what it is told of: revision, draft, check, request, review; all when not given")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept on record")
	if replace {
		c.Use, c.Args, c.Example = use+" NAME [URL]", words(1, 2), "  gneiss webhook set chat --stop\n  gneiss webhook set chat --renew"
		c.Flags().BoolVar(&in.Renew, "renew", false, "give it a new key")
		c.Flags().BoolVar(&stop, "stop", false, "tell it nothing for now; without, it is told again")
	}
	return c
}
