package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"gneiss/client"
	"gneiss/wire"
)

// tokenFile is where tokens are kept, by server, for their owner alone.
func tokenFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "gneiss", "tokens.json"), err
}

func tokens() map[string]string {
	kept := map[string]string{}
	path, err := tokenFile()
	if err != nil {
		return kept
	}
	if content, err := os.ReadFile(path); err == nil {
		_ = json.Unmarshal(content, &kept) // a damaged file is as good as none
	}
	return kept
}

// token is the one to use with a server: the environment's, or the kept one.
func token(server string) string {
	if t := os.Getenv("GNEISS_TOKEN"); t != "" {
		return t
	}
	return tokens()[strings.TrimRight(server, "/")]
}

// last is where the tokens' file has the server that was signed in to last.
const last = "last"

// lastServer is where commands go that name no server.
func lastServer() string {
	if server := tokens()[last]; server != "" {
		return server
	}
	return DefaultServer
}

func keepToken(server, secret string) error {
	kept := tokens()
	server = strings.TrimRight(server, "/")
	if secret == "" {
		delete(kept, server)
		if kept[last] == server {
			delete(kept, last)
		}
	} else {
		kept[server], kept[last] = secret, server
	}
	path, err := tokenFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	content, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, content, 0o600); err != nil {
		return err
	}
	return os.Chmod(path, 0o600)
}

func (a *app) session(root *cobra.Command) {
	var user, name string
	var fromInput, show bool
	in := &cobra.Command{
		Use: "sign-in", Short: "Sign in and keep a token for later commands", GroupID: "session", Args: words(0, 0),
		Example: `  gneiss sign-in --user opal
  GNEISS_TOKEN=$(echo northmark | gneiss sign-in --user opal --password-stdin --print-token)`,
		RunE: func(c *cobra.Command, _ []string) error {
			if user == "" {
				return usageError{errors.New("name the account with --user")}
			}
			password, err := a.password(fromInput)
			if err != nil {
				return err
			}
			asked := wire.SignIn{User: user, Password: password, Token: true, Name: name}
			signIn := func() (wire.Session, error) {
				return client.Send[wire.Session](c.Context(), client.New(a.server, ""), "POST", "/session", asked)
			}
			s, err := signIn()
			var p *wire.Problem
			if errors.As(err, &p) && p.Code == "password_given" {
				fmt.Fprintln(a.err, "An administrator has set this password. Choose your own.")
				if asked.NewPassword, err = a.chosen(fromInput); err != nil {
					return err
				}
				s, err = signIn()
			}
			if err != nil {
				return err
			}
			if show {
				fmt.Fprintln(a.out, s.Token)
				return nil
			}
			if err := keepToken(a.server, s.Token); err != nil {
				return fmt.Errorf("the token cannot be kept: %w", err)
			}
			fmt.Fprintf(a.out, "Signed in to %s as %s, until %s.\n", a.server, s.User, s.Expires.Local().Format("2006-01-02 15:04"))
			return nil
		},
	}
	in.Flags().StringVar(&user, "user", "", "the account")
	in.Flags().StringVar(&name, "name", "command line", "what the token is for")
	in.Flags().BoolVar(&fromInput, "password-stdin", false,
		"read the password from standard input, and from a second line your own one if an administrator has set the first")
	in.Flags().BoolVar(&show, "print-token", false, "print the token and keep nothing")
	out := &cobra.Command{
		Use: "sign-out", Short: "End the session and forget its token", GroupID: "session", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := client.Send[struct{}](c.Context(), a.connect(), "DELETE", "/session", nil)
			var p *wire.Problem
			if err != nil && !(errors.As(err, &p) && p.Status == 401) {
				return err
			}
			fmt.Fprintln(a.out, "Signed out.")
			return keepToken(a.server, "")
		},
	}
	who := &cobra.Command{
		Use: "whoami", Short: "Say who is signed in, and what they act in", GroupID: "session", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := client.Get[wire.Session](c.Context(), a.connect(), "/session", query(a.at))
			if err != nil {
				return err
			}
			s.CSRF = ""
			return a.show(s, grid{head: []string{"what", "value"}, rows: [][]string{
				{
					"signed in as",
					s.User + either(s.Title, "  ("+s.Title+")", ""),
				}, {"viewing as", s.Standpoint}, {"roles", strings.Join(s.Roles, ", ")},
				{"groups", strings.Join(s.Groups, ", ")}, {"until", s.Expires.Local().Format(time.DateTime)}, {"server", a.server}}})
		},
	}
	a.standpoint(who)
	root.AddCommand(in, out, who)
}

func either(test, yes, no string) string {
	if test != "" {
		return yes
	}
	return no
}

// onTerminal reports whether what is written is read by people.
func onTerminal(w io.Writer) bool {
	f, ok := file(w)
	return ok && term.IsTerminal(int(f.Fd()))
}

// asks reports whether there is a terminal to ask on.
func (a *app) asks() bool {
	f, ok := a.in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// password reads one from standard input, or asks on the terminal.
func (a *app) password(fromInput bool) (string, error) {
	return a.secret("Password: ", fromInput)
}

// chosen asks for a new password, on a terminal twice.
func (a *app) chosen(fromInput bool) (string, error) {
	text, err := a.secret("New password: ", fromInput)
	if err != nil || fromInput {
		return text, err
	}
	again, err := a.secret("New password again: ", false)
	if err == nil && again != text {
		err = errors.New("the two new passwords differ; nothing was changed")
	}
	return text, err
}

// secret asks for what is not shown, on the terminal or as a line of standard input.
func (a *app) secret(prompt string, fromInput bool) (string, error) {
	if f, ok := a.in.(*os.File); ok && !fromInput && a.asks() {
		fmt.Fprint(a.err, prompt)
		secret, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(secret), err
	}
	if !fromInput {
		return "", usageError{errors.New("there is no terminal to ask for the password; use --password-stdin")}
	}
	if a.lines == nil {
		a.lines = bufio.NewReader(a.in)
	}
	line, err := a.lines.ReadString('\n')
	if line == "" && err != nil {
		return "", usageError{errors.New("there is no password on standard input")}
	}
	return strings.TrimRight(line, "\r\n"), nil
}
