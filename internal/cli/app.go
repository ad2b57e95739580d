// Package cli is the command line. Every command but serve and demo is a client of the service's HTTP
// interface.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/urfave/cli/v3"

	"dowsingrod/internal/api"
	"dowsingrod/internal/client"
)

// Exit statuses.
const (
	Failed      = 1
	Usage       = 2
	NotFound    = 3
	Unreachable = 4
)

// usageError is a mistake in how a command was written.
type usageError struct{ error }

func wrongUsage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// App is what commands share.
type App struct {
	Console  fs.FS // the built console
	Out, Err io.Writer
	color    bool
}

// Run runs the command line and returns its exit status.
func (a *App) Run(ctx context.Context, args []string) int {
	root := a.root()
	mistakes(root)
	err := root.Run(ctx, args)
	if err == nil {
		return 0
	}
	return a.explain(err)
}

// mistakes makes every command report how it was written wrongly the same way.
func mistakes(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, _ *cli.Command, err error, _ bool) error { return usageError{err} }
	for _, sub := range c.Commands {
		mistakes(sub)
	}
}

func (a *App) root() *cli.Command {
	return &cli.Command{
		Name: "dowse", Version: api.Version, Writer: a.Out, ErrWriter: a.Err,
		Usage: "find where storage latency arises, who causes it, and prove what helped",
		Description: "Start with `dowse demo`, or `dowse serve` and `dowse import`. Then: find an object, look at its route,\n" +
			"its strata (latency by layer), and the suspects of the component where the delay arises.\n\n" +
			"Objects are given as kind:id, by name, or by any identifier in any notation (WWN, NAA, IQN, UUID …).\n" +
			"Times are RFC 3339, or back from now as -2h, -90m, -1d.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "address of the service", Sources: cli.EnvVars("DOWSE_ADDRESS")},
			&cli.StringFlag{Name: "token", Usage: "token to sign in with", Sources: cli.EnvVars("DOWSE_TOKEN")},
			&cli.BoolFlag{Name: "json", Usage: "print the answer as JSON"},
			&cli.StringFlag{Name: "color", Usage: "auto, always or never", Value: "auto"},
		},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			switch c.String("color") {
			case "always":
				a.color = true
			case "never":
			case "auto":
				a.color = isTerminal(a.Out) && os.Getenv("NO_COLOR") == ""
			default:
				return ctx, wrongUsage("--color is auto, always or never, not %q", c.String("color"))
			}
			return ctx, nil
		},
		Commands: []*cli.Command{
			a.find(), a.show(), a.why(), a.route(), a.reach(), a.changes(), a.inventory(), a.hardware(), a.unresolved(), a.graph(), a.survey(), a.incidents(), a.limits(), a.readings(), a.explanation(), a.compare(), a.strata(), a.suspects(), a.source(),
			a.importFeed(), a.signIn(), a.account(), a.token(), a.serve(), a.demo(), a.lab(), a.openapi(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return wrongUsage("there is no command %q: see  dowse help", c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		EnableShellCompletion: true,
		Suggest:               false,
	}
}

// explain prints an error and returns the exit status it stands for.
func (a *App) explain(err error) int {
	var usage usageError
	var unreachable *client.UnreachableError
	var p *client.Problem
	say := func(text string) { fmt.Fprintln(a.Err, "dowse: "+text) }
	switch {
	case errors.As(err, &usage):
		say(err.Error())
		return Usage
	case errors.As(err, &unreachable):
		say(err.Error())
		return Unreachable
	case errors.As(err, &p):
		say(p.Error())
		for k, e := range p.Errors {
			if k == 20 {
				fmt.Fprintf(a.Err, "  and %d more\n", len(p.Errors)-k)
				break
			}
			switch {
			case p.Of("ambiguous-name"):
				fmt.Fprintf(a.Err, "  %v\n", e.Value)
			default:
				fmt.Fprintf(a.Err, "  %s: %s\n", e.Location, e.Message)
			}
		}
		switch {
		case p.Of("unknown-object"), p.Of("unknown-incident"), p.Of("ambiguous-name"), p.Of("not-found"):
			return NotFound
		case p.Of("bad-window"), p.Status == 422 && !p.Of("bad-feed") && !p.Of("bad-source"):
			return Usage
		case p.Of("sign-in-needed"):
			fmt.Fprintln(a.Err, "  The token is missing, wrong or expired. Sign in with  dowse sign-in, or set DOWSE_TOKEN.")
		}
		return Failed
	case errors.Is(err, context.Canceled):
		say("stopped")
		return Failed
	}
	say(err.Error())
	return Failed
}

// connect makes the client from flags, environment and configuration, in that order.
func (a *App) connect(c *cli.Command) (*client.Client, error) {
	cfg, err := loadConfig()
	if err != nil {
		return nil, err
	}
	if v := c.String("address"); v != "" {
		if v != cfg.Address {
			cfg.Token = "" // a token is for the service that gave it
		}
		cfg.Address = v
	}
	if v := c.String("token"); v != "" {
		cfg.Token = v
	}
	if cfg.Address == "" {
		cfg.Address = "http://127.0.0.1:7465"
	}
	return client.New(cfg.Address, cfg.Token), nil
}

// printJSON prints an answer for machines.
func (a *App) printJSON(v any) error {
	enc := json.NewEncoder(a.Out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// one returns a command's single argument.
func one(c *cli.Command, what string) (string, error) {
	switch c.Args().Len() {
	case 1:
		return c.Args().First(), nil
	case 0:
		return "", wrongUsage("%s is missing: dowse %s %s", what, c.Name, c.ArgsUsage)
	}
	return "", wrongUsage("%d arguments are too many (quote names with blanks): dowse %s %s", c.Args().Len(), c.Name, c.ArgsUsage)
}

func windowFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "start of the window, as -2h or RFC 3339"},
		&cli.StringFlag{Name: "to", Usage: "end of the window; now where absent"},
		&cli.StringFlag{Name: "at", Usage: "a moment: the window becomes the hour around it"},
	}
}
